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
  lifeWhile,
  meanOf,
  memberWords,
  needsAmounts,
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
import { maskedFields } from '../ledger/masked.ts'
import { demandWhole } from '../ledger/reach.ts'
import { currenciesOf, currencyDoubt, type CurrencyField } from './currencies.ts'
import { demandField, named, type WorkRequest } from './ground.ts'
import { livesOf, type Lives } from '../scope/kept-lives.ts'
import { keepSoon } from '../scope/reading.ts'
import { namesOf } from './names.ts'

/** More points than these are not told apart. */
const mostPoints = 3000
const mostParts = 60
const mostMarks = 8
const mostCurrencies = 200

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
  { work, zone, closed = new Set(), personId = null }: WorkRequest<FigureWork>,
  nowMs: number,
): Promise<FigureAnswer> {
  const field = await demandField(db, work.fieldId, closed)
  if (work.reckoning !== 'count' && valueKind(field.baseType) !== 'number')
    throw new Problem(
      'bad-request',
      `${field.name} of ${field.plural} holds ${field.baseType} and no numbers, so that it has no ${work.reckoning}. Nothing was reckoned: choose another field, or count the records.`,
    )
  demandWhole(scopes)
  const told = needsAmounts(work) ? (await currenciesOf(db, [field.id])).get(field.id) : undefined
  const hidden = new Set([...closed, ...(told ? await maskedFields(db) : [])])
  const doubt = told ? currencyDoubt(told, { scopes, closed: hidden }, 'of the record alone') : null
  const teller = doubt === null ? told : undefined
  if (!db.isTransaction) await keepSoon(db, teller ? [field.id, teller.id] : [field.id], { personId }, 'spoor.life')
  return await asOfOneMoment(db, async (trx) => {
    const reading = { trx, scopes, nowMs }
    const all = await livesOf(trx, field.typeId, field.id)
    const { currency, lives } = await inOneCurrency(reading, all, teller, work.currency)
    if (currency?.chosen === null) return { field: named(field), currency, doubt, points: [], marks: [], between: null }
    const spell = await spellOf(reading, field.id, zone)
    const days = spell === null ? [] : daysOf(spell, work.step, zone)
    const points = pointsAt(lives, days, work, zone)
    const moves = movesBetween(lives, days[0], days.at(-1), work, zone)
    return {
      field: named(field),
      currency,
      doubt,
      points,
      marks: await marksOf(reading, moves),
      between: await between(reading, { lives, points, moves }, work, zone),
    }
  })
}

/**
 * Amounts of the one currency that was chosen, where there are several; else all of them.
 * @throws Problem where one is chosen that no record ever had
 */
async function inOneCurrency(
  { trx, scopes, nowMs }: Reading,
  all: Lives,
  teller: CurrencyField | undefined,
  chosen: string | null,
): Promise<{ currency: FigureAnswer['currency']; lives: Lives }> {
  if (!teller) return { currency: null, lives: all }
  const told = await livesOf(trx, teller.typeId, teller.id)
  const byId = new Map(told.ids.map((id, at) => [id, told.lives[at]!]))
  // Of records whose amount is never known or there, the currency says nothing.
  const values = new Map<string, number>()
  for (const [at, life] of all.lives.entries())
    if (life.some(({ holding }) => holding.state === 'value' && holding.value !== null))
      for (const { holding } of byId.get(all.ids[at]!) ?? [])
        if (holding.state === 'value') {
          const member = JSON.stringify([holding.value])
          values.set(member, (values.get(member) ?? 0) + 1)
        }
  const name = `${teller.name} of ${teller.plural}`
  if (chosen !== null && !values.has(chosen))
    throw new Problem(
      'bad-request',
      `No amount was ever in ${memberWords(`held.${teller.id}`, chosen)} by ${name}. Nothing was reckoned: choose another.`,
    )
  if (values.size <= 1 && chosen === null) return { currency: null, lives: all }
  const members = [...values].sort((a, b) => b[1] - a[1]).map(([value]) => value)
  const shown = members.slice(0, mostCurrencies)
  const names = await namesOf(trx, scopes, `held.${teller.id}`, shown, nowMs)
  const currency = { fieldId: teller.id, name, values: shown.map((value, at) => ({ value, name: names[at]! })), chosen }
  if (chosen === null) return { currency, lives: all }
  const [wanted = null] = JSON.parse(chosen) as [string | null]
  const lives = all.lives.map((life, at) => lifeWhile(life, byId.get(all.ids[at]!), (value) => value === wanted))
  return { currency, lives: { ...all, lives } }
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
