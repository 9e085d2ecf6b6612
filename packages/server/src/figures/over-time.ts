import {
  addDays,
  bucketAfter,
  bucketStart,
  dateText,
  figureAt,
  figureMoves,
  figureParts,
  instantsOf,
  kindPlural,
  meanOf,
  rise,
  startOfDay,
  valueKind,
  wallClock,
  type FigureMoves,
  type FigurePart,
  type FigureWork,
  type Scope,
} from '@spoor/core'
import type { FigureAnswer } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { asOfOneMoment } from '../database/one-moment.ts'
import { Problem } from '../errors.ts'
import { demandWhole } from '../ledger/reach.ts'
import { demandField, named, type WorkRequest } from './ground.ts'
import { livesOf, type Lives } from '../scope/kept-lives.ts'
import { keepSoon } from '../scope/reading.ts'
import { namesOf } from './names.ts'

/** More points than these are not told apart. */
const mostPoints = 3000
const mostParts = 60
const mostMarks = 8

/** Who reads it, as of when. */
interface Reading {
  trx: Knex.Transaction
  scopes: readonly Scope[]
  nowMs: number
}

/**
 * A number of all records of a type over the time that a scope speaks of, and what moved it between two days.
 * @throws Problem where the field holds no numbers, is masked, or there is too much of it
 */
export async function readFigure(
  db: Database,
  scopes: readonly Scope[],
  { work, zone, closed, personId = null }: WorkRequest<FigureWork>,
  nowMs: number,
): Promise<FigureAnswer> {
  const field = await demandField(db, work.fieldId, closed)
  if (work.reckoning !== 'count' && valueKind(field.baseType) !== 'number')
    throw new Problem(
      'bad-request',
      `${field.name} of ${field.plural} holds ${field.baseType} and no numbers, so that it has no ${work.reckoning}. Nothing was reckoned: choose another field, or count the records.`,
    )
  demandWhole(scopes)
  if (!db.isTransaction) await keepSoon(db, [field.id], { personId }, 'spoor.life')
  return await asOfOneMoment(db, async (trx) => {
    const reading = { trx, scopes, nowMs }
    const lives = await livesOf(trx, field.typeId, field.id)
    const spell = await spellOf(reading, field.id, zone)
    const days = spell === null ? [] : daysOf(spell, work.step, zone)
    const points = pointsAt(lives, days, work, zone)
    const moves = movesBetween(lives, days[0], days.at(-1), work, zone)
    return {
      field: named(field),
      points,
      marks: await marksOf(reading, moves),
      between: await between(reading, { lives, points, moves }, work, zone),
    }
  })
}

/** The end of a day as an instant: the beginning of the next. */
const edgeAfter = (day: string, zone: string) => new Date(startOfDay(addDays(day, 1), zone)).toISOString()
const movedOf = ({ reckoning }: FigureWork) => (reckoning === 'count' ? ('records' as const) : ('numbers' as const))

/** What moved it from the end of a day to that of another. */
function movesBetween(
  { lives }: Lives,
  first: string | undefined,
  last: string | undefined,
  work: FigureWork,
  zone: string,
): FigureMoves {
  if (first === undefined || last === undefined) return figureMoves([], '', '')
  return figureMoves(lives, edgeAfter(first, zone), edgeAfter(last, zone), movedOf(work))
}

/** The figure at the ends of some days. */
function pointsAt(
  { lives }: Lives,
  days: readonly string[],
  { reckoning }: FigureWork,
  zone: string,
): FigureAnswer['points'] {
  const edges = days.map((day) => edgeAfter(day, zone))
  return figureAt(lives, edges).map(({ total, numbers, without, unknown }, at) => {
    const records = numbers + without
    const figure = { total, mean: meanOf(total, numbers), count: total === null ? null : String(records) }[reckoning]
    return { day: days[at]!, figure, records, without, unknown }
  })
}

/** The time that a scope speaks of, as far as the field was tracked and until now. */
async function spellOf(
  { trx, scopes, nowMs }: Reading,
  fieldId: number,
  zone: string,
): Promise<{ first: string; last: string } | null> {
  const when = scopes[0]?.when
  const said = when && !when.exclude && !when.effective ? instantsOf(when.span, nowMs) : { fromMs: null, toMs: null }
  const [begun] = await trx('spoor.coverage')
    .where({ field_id: fieldId })
    .min<{ min: string | null }[]>('from_at as min')
  if (!begun?.min) return null
  const fromMs = Math.max(said.fromMs ?? -Infinity, Date.parse(begun.min))
  const toMs = Math.min((said.toMs ?? Infinity) - 1, nowMs)
  return fromMs > toMs ? null : { first: wallClock(fromMs, zone).date, last: wallClock(toMs, zone).date }
}

/** The last day of each step, the last being that of the spell. */
function daysOf({ first, last }: { first: string; last: string }, step: FigureWork['step'], zone: string): string[] {
  const days: string[] = []
  let startMs = bucketStart(startOfDay(first, zone), step, zone)
  for (;;) {
    startMs = bucketAfter(startMs, step, zone)
    const day = addDays(wallClock(startMs, zone).date, -1)
    if (day >= last) return [...days, last]
    days.push(day)
    if (days.length > mostPoints)
      throw new Problem(
        'bad-request',
        `That would be more than ${mostPoints} points. Nothing was reckoned: take longer steps, or less time.`,
      )
  }
}

/** The runs and corrections that moved it most in all that time. */
async function marksOf(reading: Reading, moves: FigureMoves): Promise<FigureAnswer['marks']> {
  const { parts } = figureParts(moves, 'cause', Infinity)
  const marks = parts.filter(({ cause }) => cause === 'run' || cause === 'correction').slice(0, mostMarks)
  return await called(reading, marks)
}

async function between(
  reading: Reading,
  { lives, points, moves: all }: { lives: Lives; points: FigureAnswer['points']; moves: FigureMoves },
  work: FigureWork,
  zone: string,
): Promise<FigureAnswer['between']> {
  // All of the time unless somebody chose: from the first day of which something is known.
  const a = work.a ?? points.find(({ figure }) => figure !== null)?.day
  const b = work.b ?? points.at(-1)?.day
  if (a === undefined || b === undefined || (a === b && work.a === null && work.b === null)) return null
  if (a >= b)
    throw new Problem('bad-request', `${dateText(a)} does not come before ${dateText(b)}. Nothing was reckoned.`)
  const pointAt = (day: string) => points.find((one) => one.day === day) ?? pointsAt(lives, [day], work, zone)[0]!
  const [first, last] = [pointAt(a), pointAt(b)]
  const isWhole = a === points[0]?.day && b === points.at(-1)?.day
  // Parts of a mean do not add up.
  const isMean = work.reckoning === 'mean'
  const moves = isMean ? { ...all, moves: [] } : isWhole ? all : movesBetween(lives, a, b, work, zone)
  const { parts, rest } = figureParts(moves, work.by, mostParts)
  return {
    a: first,
    b: last,
    difference: rise(first.figure, last.figure)?.by ?? null,
    parts: await called(reading, parts),
    rest,
  }
}

const causeWords = {
  correction: ({ correctionId }: FigurePart) => `correction ${correctionId}`,
  kind: ({ kind }: FigurePart) => kindPlural[kind!],
  begun: () => 'begun',
  ended: () => 'ended',
  known: () => 'came to be known',
  unknown: () => 'known no longer',
}

/** Parts with what moved them by its name. */
async function called({ trx, scopes, nowMs }: Reading, parts: readonly FigurePart[]): Promise<FigureAnswer['marks']> {
  const idOf = ({ cause, runIds, actorId }: FigurePart) => String(cause === 'run' ? runIds[0] : actorId)
  const namesFor = async (cause: 'run' | 'who') => {
    const ids = parts.filter((part) => part.cause === cause).map(idOf)
    const names = await namesOf(trx, scopes, cause, ids, nowMs)
    return new Map(ids.map((id, at) => [id, names[at]!]))
  }
  const names = { run: await namesFor('run'), who: await namesFor('who') }
  return parts.map((part) => ({
    ...part,
    name:
      part.cause === 'run' || part.cause === 'who' ? names[part.cause].get(idOf(part))! : causeWords[part.cause](part),
  }))
}
