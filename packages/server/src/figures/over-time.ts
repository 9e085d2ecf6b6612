import {
  addDays,
  bucketAfter,
  bucketStart,
  dateText,
  figureAt,
  figureMoves,
  groupBy,
  instantsOf,
  kindPlural,
  meanOf,
  spoken,
  startOfDay,
  sumOf,
  valueKind,
  wallClock,
  type FigureMove,
  type FigureWork,
  type Scope,
} from '@spoor/core'
import type { FigureAnswer } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { isLimited, reachIn } from '../ledger/reach.ts'
import { maskedFields } from '../ledger/masked.ts'
import { livesOf, type Lives, type LifeSave } from './lives.ts'
import { namesOf } from './names.ts'

/** More points than these are not told apart. */
const mostPoints = 3000
const mostParts = 60
const mostMarks = 8
const mostRunsNamed = 200

export interface FieldOfType {
  id: number
  typeId: number
  name: string
  plural: string
  baseType: string
}

/** @throws Problem where there is no such field, or it may not be looked into */
export async function demandField(
  db: Database,
  fieldId: number | null,
  closed: ReadonlySet<number> = new Set(),
): Promise<FieldOfType> {
  if (fieldId === null) throw new Problem('bad-request', 'No field is named. Nothing was reckoned: choose one.')
  const field = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('f.id', fieldId)
    .first<FieldOfType | undefined>('f.id', 'f.type_id as typeId', 'f.name', 't.plural', 'f.base_type as baseType')
  if (!field) throw new Problem('not-found', `There is no field ${fieldId}. Nothing was reckoned.`)
  if ((await maskedFields(db)).has(field.id))
    throw new Problem(
      'not-allowed',
      `${field.name} of ${field.plural} is masked, and is not found out by adding it up.`,
    )
  if (closed.has(field.id))
    throw new Problem('not-allowed', `${field.name} of ${field.plural} is left out there, and is not added up either.`)
  return field
}

const oneState = { isolationLevel: 'repeatable read', readOnly: true } as const

/** Everything as of one moment of the ledger: of one's own, or of the transaction that one is in. */
export const asOfOneMoment = <T>(db: Database, work: (trx: Knex.Transaction) => Promise<T>): Promise<T> =>
  db.isTransaction ? work(db as Knex.Transaction) : db.transaction(work, oneState)

/** @throws Problem for whoever sees a part: what all records hold comes from saves of anybody. */
export function demandWhole(scopes: readonly Scope[]): void {
  if (isLimited(reachIn(scopes)))
    throw new Problem('not-allowed', 'Whoever sees a part of the trail is not told what all records hold or held.')
}

/**
 * A number of all records of a type over the time that a scope speaks of, and what moved it between two days.
 * @throws Problem where the field holds no numbers, is masked, or there is too much of it
 */
export async function readFigure(
  db: Database,
  scopes: readonly Scope[],
  { work, zone, closed }: { work: FigureWork; zone: string; closed?: ReadonlySet<number> },
  nowMs: number,
): Promise<FigureAnswer> {
  const field = await demandField(db, work.fieldId, closed)
  if (work.reckoning !== 'count' && valueKind(field.baseType) !== 'number')
    throw new Problem(
      'bad-request',
      `${field.name} of ${field.plural} holds ${field.baseType} and no numbers, so that it has no ${work.reckoning}. Nothing was reckoned: choose another field, or count the records.`,
    )
  demandWhole(scopes)
  return await asOfOneMoment(db, async (trx) => {
    const lives = await livesOf(trx, field.typeId, field.id)
    const spell = await spellOf(trx, field.id, scopes, zone, nowMs)
    const days = spell === null ? [] : daysOf(spell, work.step, zone)
    const edges = days.map((day) => edgeAfter(day, zone))
    const points = figureAt(lives.lives, edges).map((point, at) => ({ day: days[at]!, ...reckoned(point, work) }))
    const of = work.reckoning === 'count' ? ('records' as const) : ('numbers' as const)
    const all = edges.length > 1 ? figureMoves(lives.lives, edges[0]!, edges.at(-1)!, of) : []
    return {
      field: { id: field.id, typeId: field.typeId, name: field.name, plural: field.plural },
      points,
      marks: (await partsOf(trx, scopes, all, lives, 'cause', nowMs))
        .filter(({ cause }) => cause === 'run' || cause === 'correction')
        .slice(0, mostMarks),
      between: await between(trx, scopes, lives, work, points, zone, nowMs),
    }
  })
}

/** The end of a day as an instant: the beginning of the next. */
const edgeAfter = (day: string, zone: string) => new Date(startOfDay(addDays(day, 1), zone)).toISOString()

function reckoned(
  { total, numbers, without, unknown }: ReturnType<typeof figureAt>[number],
  { reckoning }: FigureWork,
): Pick<FigureAnswer['points'][number], 'figure' | 'records' | 'without' | 'unknown'> {
  const records = numbers + without
  const isKnown = total !== null
  const figure = { total, mean: meanOf(total, numbers), count: isKnown ? String(records) : null }[reckoning]
  return { figure, records, without, unknown }
}

/** The time that a scope speaks of, as far as the field was tracked and until now. */
async function spellOf(
  trx: Knex.Transaction,
  fieldId: number,
  scopes: readonly Scope[],
  zone: string,
  nowMs: number,
): Promise<{ first: string; last: string } | null> {
  const when = scopes[0]?.when
  const named = when && !when.exclude && !when.effective ? instantsOf(when.span, nowMs) : { fromMs: null, toMs: null }
  const [begun] = await trx('spoor.coverage')
    .where({ field_id: fieldId })
    .min<{ min: string | null }[]>('from_at as min')
  if (!begun?.min) return null
  const fromMs = Math.max(named.fromMs ?? -Infinity, Date.parse(begun.min))
  const toMs = Math.min((named.toMs ?? Infinity) - 1, nowMs)
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

async function between(
  trx: Knex.Transaction,
  scopes: readonly Scope[],
  lives: Lives,
  chosen: FigureWork,
  points: FigureAnswer['points'],
  zone: string,
  nowMs: number,
): Promise<FigureAnswer['between']> {
  // Whole spells unless somebody chose: from the first day of which something is known.
  const a = chosen.a ?? points.find(({ figure }) => figure !== null)?.day
  const b = chosen.b ?? points.at(-1)?.day
  if (a === undefined || b === undefined || (a === b && chosen.a === null && chosen.b === null)) return null
  const work = { ...chosen, a, b }
  if (work.a >= work.b)
    throw new Problem(
      'bad-request',
      `${dateText(work.a)} does not come before ${dateText(work.b)}. Nothing was reckoned.`,
    )
  const edges = [edgeAfter(work.a, zone), edgeAfter(work.b, zone)] as const
  const [first, last] = figureAt(lives.lives, edges).map((point) => reckoned(point, work))
  const difference = first!.figure === null || last!.figure === null ? null : minus(last!.figure, first!.figure)
  // Parts of a mean do not add up.
  const moves =
    work.reckoning === 'mean'
      ? []
      : figureMoves(lives.lives, ...edges, work.reckoning === 'count' ? 'records' : 'numbers')
  const parts = await partsOf(trx, scopes, moves, lives, work.by, nowMs)
  const rest = parts.slice(mostParts)
  return {
    a: { day: work.a, ...first! },
    b: { day: work.b, ...last! },
    difference,
    parts: parts.slice(0, mostParts),
    rest: { parts: rest.length, difference: sumOf(rest.map((part) => part.difference)) },
  }
}

type Part = NonNullable<FigureAnswer['between']>['parts'][number]

const minus = (decimal: string, other: string) => sumOf([decimal, other.startsWith('-') ? other.slice(1) : `-${other}`])

/** A move's group: what it has in common with others that moved the figure for the same reason. */
function causeOf(
  move: FigureMove,
  save: LifeSave | undefined,
  savesOfRun: ReadonlyMap<string, number>,
  by: FigureWork['by'],
): string {
  if (!save) return move.how === 'unknown' ? 'unknown' : 'known'
  if (by === 'who') return `who ${save.actorId}`
  if (by === 'kind') return `kind ${save.actorKind}`
  if (save.correctionId !== null) return `correction ${save.correctionId}`
  if (move.how === 'begun' || move.how === 'ended') return move.how
  // A run of one save is somebody's hand.
  if (save.runId !== null && (savesOfRun.get(save.runId) ?? 0) > 1) return `run ${save.runId}`
  return `who ${save.actorId}`
}

/** What moved a figure, the most first. The differences of all parts add up to that of the figure. */
async function partsOf(
  trx: Knex.Transaction,
  scopes: readonly Scope[],
  moves: readonly FigureMove[],
  { saves }: Lives,
  by: FigureWork['by'],
  nowMs: number,
): Promise<Part[]> {
  const savesOfRun = new Map<string, number>()
  for (const { by: id } of moves) {
    const runId = id === null ? null : (saves.get(id)?.runId ?? null)
    if (runId !== null) savesOfRun.set(runId, (savesOfRun.get(runId) ?? 0) + 1)
  }
  const groups = groupBy(moves, (move) =>
    causeOf(move, move.by === null ? undefined : saves.get(move.by), savesOfRun, by),
  )
  const ids = (kind: string) =>
    [...groups.keys()].flatMap((key) => (key.startsWith(`${kind} `) ? key.slice(kind.length + 1) : []))
  const named = async (kind: 'run' | 'who') => {
    const values = ids(kind)
    const names = await namesOf(trx, scopes, kind, values, nowMs)
    return new Map(values.map((value, at) => [`${kind} ${value}`, names[at]!]))
  }
  const names = new Map([...(await named('run')), ...(await named('who'))])
  const parts = [...groups].map(([key, list]): Part => {
    const own = list.flatMap(({ by: id }) => (id === null ? [] : (saves.get(id) ?? [])))
    const [kind, value] = key.split(' ')
    const runs = [...new Set(own.flatMap(({ runId }) => runId ?? []))].map(Number)
    return {
      cause: kind as Part['cause'],
      name: names.get(key) ?? (kind === 'kind' ? kindPlural[value as keyof typeof kindPlural] : spoken(key)),
      saves: list.length,
      difference: sumOf(list.map(({ difference }) => difference)),
      at: list.reduce((first, move) => (move.at < first ? move.at : first), list[0]!.at),
      // Of somebody's hand as long as they can be named.
      runIds: runs.length <= mostRunsNamed ? runs : [],
      correctionId: kind === 'correction' ? Number(value) : null,
      actorId: kind === 'who' ? Number(value) : null,
      kind: kind === 'kind' ? (value as Part['kind']) : null,
    }
  })
  const size = ({ difference }: Part) => Math.abs(Number(difference))
  return parts.sort((a, b) => size(b) - size(a))
}
