import { randomUUID } from 'node:crypto'
import {
  compareInstants,
  grouped,
  holdingNow,
  isOfFound,
  type CoverageSpell,
  type Segment,
  type Standing,
} from '@spoor/core'
import type { StandingPage } from '@spoor/contract'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { asOfOneMoment } from '../database/one-moment.ts'
import { Problem } from '../errors.ts'
import { coverageOf } from '../ledger/coverage.ts'
import { maskedFields } from '../ledger/masked.ts'
import { referencesOf } from '../ledger/references.ts'
import { anywhere } from '../ledger/scope-sql.ts'
import { firstInGrid, keysInGrid, type GridRequest } from './grid.ts'
import { beginning, standingAt, standingColumns, standingOf, type StandingRow } from './kept.ts'
import { recordsAt, timesChanged } from './moment.ts'
import { mostBehind, savesBehind, tailOf, type Tail } from './tail.ts'

export interface StandingRequest extends Pick<GridRequest, 'typeId' | 'words' | 'where' | 'order'> {
  fieldIds: readonly number[]
  /** An instant in UTC; now, where none is said. */
  at: string | undefined
  /** Changes after this instant are marked, and who was deleted since is named. */
  marks: string | undefined
  /** What `next` of the page before said. */
  after: string | undefined
  limit: number
}

/** After everything that is known. */
const evermore = '9999-12-31T23:59:59Z'

const name = 'left(label, 200) collate spoor.natural'

type Row = StandingPage['records'][number]
type Cell = Row['values'][number]

/** What a page is made of. */
interface Listed {
  records: Row[]
  next: string | null
  total: number | null
}

/**
 * The records of a type as they stand, by their names: as they are kept, with what came since put upon them, so that
 * nothing here is older than the ledger. Or as they stood at a moment, in another order, those only that met conditions.
 */
export async function standingPage(db: Database, lists: KeyLists, request: StandingRequest): Promise<StandingPage> {
  return await asOfOneMoment(db, async (trx) => {
    const behind = await savesBehind(trx)
    // On a ledger that is older than the follower: nobody waits for so much to be read at once.
    if (behind > mostBehind) return { records: [], references: [], next: null, total: null, coming: 0, behind }
    const masked = await maskedFields(trx)
    const hidden = [...request.where.map((one) => one.fieldId), ...(request.order ? [request.order.fieldId] : [])]
    if (hidden.some((fieldId) => masked.has(fieldId)))
      throw new Problem('not-allowed', 'A masked field is neither looked into nor put in order by. Nothing was read.')
    const tail = await tailOf(trx, request.typeId)
    const { at, marks, where, order } = request
    const isPlain = at === undefined && marks === undefined && where.length === 0 && order === null
    const { records, next, total } = isPlain
      ? await listByName(trx, request, tail, masked)
      : await listThen(trx, lists, request, tail, masked)
    const pointing = records.flatMap(({ values }) =>
      values.map(({ fieldId, value }) => ({ fieldId, before: null, after: value })),
    )
    return {
      records,
      total,
      coming: await comingOf(trx, request.typeId),
      behind: 0,
      references: await referencesOf(trx, pointing),
      next,
    }
  })
}

async function listByName(
  trx: Knex.Transaction,
  request: StandingRequest,
  tail: Tail,
  masked: ReadonlySet<number>,
): Promise<Listed> {
  const rows = await pageOf(trx, request, tail)
  const page = rows.slice(0, request.limit).map((row) => ({
    key: row.record_key,
    place: row.place,
    standing: row.in_tail ? tail.records.get(row.record_key)! : standingOf(row),
  }))
  const last = page.at(-1)
  return {
    records: await rowsNow(trx, request, page, masked),
    next: rows.length > request.limit && last ? JSON.stringify([last.place, last.key]) : null,
    total: null,
  }
}

async function rowsNow(
  trx: Knex.Transaction,
  { typeId, fieldIds }: StandingRequest,
  page: readonly { key: string; standing: Standing }[],
  masked: ReadonlySet<number>,
): Promise<Row[]> {
  const coverage = await coverageOf(trx, typeId, savesMet(page))
  const spellsOf = new Map(fieldIds.map((id) => [id, coverage.filter((spell) => spell.fieldId === id)]))
  return page.map(({ key, standing }) => ({
    key,
    label: standing.label,
    deletedAt: standing.deleted,
    values:
      standing.deleted === null
        ? fieldIds.map((fieldId) => held(standing, fieldId, spellsOf.get(fieldId)!, masked.has(fieldId)))
        : [],
  }))
}

interface KeyList {
  /** In order; at first perhaps not all of them. */
  keys: readonly string[]
  total: number
}

/** Lists of keys that somebody goes down: putting all records of a type in order is done once for all pages. */
export class KeyLists {
  readonly #lists = new Map<string, KeyList>()

  keep(list: KeyList): string {
    const id = randomUUID()
    this.#lists.set(id, list)
    let kept = [...this.#lists.values()].reduce((sum, { keys }) => sum + keys.length, 0)
    for (const [oldest, { keys }] of this.#lists) {
      if (kept <= mostKept || oldest === id) break
      this.#lists.delete(oldest)
      kept -= keys.length
    }
    return id
  }

  read(id: string): KeyList | undefined {
    return this.#lists.get(id)
  }
}

/** So many keys are kept in all, the latest lists first. */
const mostKept = 2_000_000
/** More are put in no other order than that of their names, nor gone down to their end. */
const mostInOrder = 1_000_000
const firstKeys = 1000

/** @throws Problem where somebody made it up */
function placeIn(after: string | undefined): { list: string; from: number } {
  if (after === undefined) return { list: '', from: 0 }
  const [, list, from] = /^([0-9a-f-]{36}) (\d{1,9})$/.exec(after) ?? []
  if (list === undefined) throw noPlace()
  return { list, from: Number(from) }
}

async function listThen(
  trx: Knex.Transaction,
  lists: KeyLists,
  request: StandingRequest,
  tail: Tail,
  masked: ReadonlySet<number>,
): Promise<Listed> {
  const { typeId, marks, limit, where } = request
  // What a condition names is reckoned with the rest, so that what is not known of it shows no record.
  const fieldIds = [...new Set([...request.fieldIds, ...where.map((one) => one.fieldId)])]
  const reckoned = { ...request, fieldIds }
  const now = new Date().toISOString()
  const isNow = request.at === undefined || compareInstants(request.at, now) > 0
  const at = isNow ? now : request.at!
  if (!isNow && !(await wasTracked(trx, typeId, at))) return { records: [], next: null, total: 0 }
  const place = placeIn(request.after)
  const grid = {
    ...request,
    at,
    isNow,
    deletedSince: marks !== undefined && compareInstants(marks, at) < 0 ? marks : null,
  }
  let { keys, total } = lists.read(place.list) ?? { keys: [], total: -1 }
  let list = place.list
  // By name the first are found by an index; who goes further down has all of them put in order, as others have at once.
  if (total < 0 && place.from === 0 && where.length === 0 && request.order === null) {
    ;({ keys, total } = await firstInGrid(trx, grid, tail, firstKeys))
    list = lists.keep({ keys, total })
  } else if (total < 0 || (place.from + limit > keys.length && keys.length < total)) {
    keys = await keysInGrid(trx, grid, tail, mostInOrder + 1)
    if (keys.length > mostInOrder)
      throw new Problem(
        'bad-request',
        `More than ${grouped(mostInOrder)} records are meant. Say more of their names or of what they hold, to go so far down or to have them in another order.`,
      )
    total = keys.length
    list = lists.keep({ keys, total })
  }
  const records: Row[] = []
  let from = place.from
  // What was not there after all, or does not hold for sure, makes room for the next.
  while (records.length < limit && from < keys.length) {
    const some = keys.slice(from, from + limit - records.length)
    from += some.length
    const rows = isNow
      ? await rowsNow(trx, reckoned, await standingsOf(trx, typeId, some, tail), masked)
      : await rowsThen(trx, reckoned, some, { at, tail, masked })
    records.push(...rows.filter((row) => row.deletedAt !== null || isSure(row, where)))
  }
  if (marks !== undefined) {
    const alive = records.filter((row) => row.deletedAt === null).map((row) => row.key)
    const times = await timesChanged(trx, typeId, alive, { fieldIds: request.fieldIds, after: marks, until: at })
    for (const row of records)
      for (const cell of row.values) cell.times = Math.min(2, times.get(row.key)?.get(cell.fieldId) ?? 0)
  }
  const shown = records.map((row) => ({ ...row, values: row.values.slice(0, request.fieldIds.length) }))
  return { records: shown, next: from < total ? `${list} ${from}` : null, total }
}

/** Whether anything of a type had been tracked by a moment: before that, who was there is not known either. */
async function wasTracked(trx: Knex.Transaction, typeId: number, at: string): Promise<boolean> {
  const { rows } = await trx.raw<{ rows: { was: boolean }[] }>(
    // A save that bears an earlier beginning out comes some seconds before the one that is written down.
    `select exists (select from spoor.coverage c join spoor.field f on f.id = c.field_id
       where f.type_id = ? and c.from_at <= ?::timestamptz + interval '10 seconds') as was`,
    [typeId, at],
  )
  return rows[0]!.was
}

/** Whether the fields that conditions name are known of a record. */
function isSure({ values }: Row, where: StandingRequest['where']): boolean {
  return where.every(({ fieldId }) => (values.find((cell) => cell.fieldId === fieldId)?.unknown ?? null) === null)
}

async function standingsOf(
  trx: Knex.Transaction,
  typeId: number,
  keys: readonly string[],
  tail: Tail,
): Promise<{ key: string; standing: Standing }[]> {
  const kept = await standingAt(trx, typeId, keys)
  return keys.flatMap((key) => {
    const standing = tail.keys.includes(key) ? tail.records.get(key) : kept.get(key)
    return standing ? [{ key, standing }] : []
  })
}

async function rowsThen(
  trx: Knex.Transaction,
  { typeId, fieldIds, marks }: StandingRequest,
  keys: readonly string[],
  { at, tail, masked }: { at: string; tail: Tail; masked: ReadonlySet<number> },
): Promise<Row[]> {
  const page = await standingsOf(trx, typeId, keys, tail)
  const coverage = await coverageOf(trx, typeId, savesMet(page))
  const then = await recordsAt(trx, typeId, keys, { fieldIds, at, coverage, masked })
  return page.flatMap(({ key, standing }): Row[] => {
    const { label, fields } = then.get(key)!
    const segments = [...fields.values()]
    const gone = segments.length > 0 && segments.every(({ holding }) => holding.state === 'absent')
    const row = { key, label: label ?? standing.label }
    if (!gone) return [{ ...row, deletedAt: null, values: fieldIds.map((id) => cellOf(id, fields.get(id)!)) }]
    // Made later, or deleted before anybody asked.
    const deletedAt = segments[0]!.from
    const isNamed =
      marks !== undefined && deletedAt !== null && segments[0]!.by !== null && compareInstants(marks, deletedAt) < 0
    return isNamed ? [{ ...row, deletedAt, values: [] }] : []
  })
}

function cellOf(fieldId: number, { holding, from, found }: Segment): Cell {
  const cell = { ...nothing, fieldId }
  if (holding.state === 'unknown') return { ...cell, unknown: holding.why }
  if (holding.state === 'absent') return cell
  return { ...cell, ...beginning(holding.value), found, since: from }
}

const nothing: Omit<Cell, 'fieldId'> = { value: null, unknown: null, cut: false, found: false, since: null, times: 0 }

/** How many records were found that are not kept yet. */
async function comingOf(trx: Knex.Transaction, typeId: number): Promise<number> {
  const { rows } = await trx.raw<{ rows: { coming: string }[] }>(
    `select coalesce(sum(t.records - coalesce(s.records, 0)), 0) as coming
       from spoor.taking t left join spoor.standing_taking s on s.taking_id = t.id where t.type_id = ?`,
    [typeId],
  )
  return Number(rows[0]!.coming)
}

function held(standing: Standing, fieldId: number, coverage: readonly CoverageSpell[], masked: boolean): Cell {
  const stood = standing.fields.get(fieldId)
  const holding = holdingNow(standing, fieldId, coverage, evermore)
  const plain = { ...nothing, fieldId }
  if (holding.state === 'unknown') return { ...plain, unknown: holding.why }
  if (masked) return { ...plain, unknown: 'masked' }
  if (holding.state === 'absent') return plain
  return {
    ...plain,
    value: holding.value,
    cut: stood?.cut ?? false,
    found: stood !== undefined && isOfFound(stood.by),
    since: stood?.at ?? standing.born,
  }
}

/** Saves that the records' values come from: they bear out since when their fields were tracked. */
export function savesMet(page: readonly { standing: Standing }[]): { id: string; captured_at: string }[] {
  return page.flatMap(({ standing }) =>
    [...standing.fields.values()].flatMap(({ at, by }) => (isOfFound(by) ? [] : [{ id: by, captured_at: at }])),
  )
}

/** A record in the order of the list; of one that is in the tail what it holds stands there. */
type PlacedRow = StandingRow & { place: string; in_tail: boolean }

/** The rows of a page, and one more where there is one. */
async function pageOf(
  trx: Knex.Transaction,
  { typeId, words, after, limit }: StandingRequest,
  tail: Tail,
): Promise<PlacedRow[]> {
  const begun = after === undefined ? null : parsedAfter(after)
  const here = [
    words === undefined ? '' : `and label ilike ? escape '\\'`,
    begun === null ? '' : `and (${name}, record_key) > (?, ?)`,
  ].join(' ')
  const bindings = [...(words === undefined ? [] : [anywhere(words)]), ...(begun ?? [])]
  const alive = [...tail.records].filter(([, { deleted }]) => deleted === null)
  const { rows } = await trx.raw<{ rows: PlacedRow[] }>(
    `select *, left(label, 200) as place from (
       (select ${standingColumns}, false as in_tail from spoor.standing
         where type_id = ? and deleted is null and record_key not in (select unnest(?::text[])) ${here}
         order by ${name}, record_key limit ?)
       union all
       (select record_key, label, null, null, null, null, null, true from unnest(?::text[], ?::text[]) as tail(record_key, label)
         where true ${here})) as records
     order by ${name}, record_key limit ?`,
    [
      typeId,
      boundArray(tail.keys),
      ...bindings,
      limit + 1,
      boundArray(alive.map(([key]) => key)),
      boundArray(alive.map(([, { label }]) => label)),
      ...bindings,
      limit + 1,
    ],
  )
  return rows
}

function parsedAfter(text: string): [label: string, key: string] {
  try {
    const read: unknown = JSON.parse(text)
    if (Array.isArray(read) && read.length === 2 && read.every((one) => typeof one === 'string'))
      return read as [string, string]
  } catch {
    // Said below.
  }
  throw noPlace()
}

const noPlace = () => new Problem('bad-request', 'This is no place in the list. Begin at its first page.')
