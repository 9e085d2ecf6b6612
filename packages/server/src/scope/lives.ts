import { setImmediate as breathe } from 'node:timers/promises'
import {
  counted,
  lifeOf,
  microsOf,
  timelinesOf,
  type ActorKind,
  type FoundValue,
  type Life,
  type LifeSave,
  type SaveAction,
  type TrailSave,
} from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { findingsOf, findingsOfType, type FoundLook } from '../ledger/findings.ts'
import { isErased, valuesOf } from '../ledger/found-record.ts'
import { coverageOf, type Span } from '../ledger/coverage.ts'
import { threadOf, type KeySpan } from '../ledger/thread.ts'

/** A field of one record, over all of time. */
export interface ReadLife {
  /** The key that the record has, or had last. */
  key: string
  /** Which record it is: the same for every field, where a key has been that of several. */
  id: string
  /** The keys that it had; null where it never had another. */
  spans: readonly KeySpan[] | null
  /** Actors are as the ledger has them: one may be the same as another. */
  life: Life
}

/** Each of those that changed their key is followed by itself. */
const mostMoved = 3000
/** Neither a number nor a status is longer, nor what a scope asks for: longer ones differ from all of these. */
const longest = 501
/** So many records are held in memory in one go. */
const atOnce = 2000
const breath = 250

interface Row {
  id: string
  captured_at: string
  record_key: string
  action: SaveAction
  actor_id: number
  actor_kind: ActorKind
  run_id: string | null
  correction_id: number | null
  named: boolean
  before: string | null
  after: string | null
  erased: boolean | null
}
const columns = `s.id::text, s.captured_at, s.action, s.actor_id, s.actor_kind, s.run_id::text, s.correction_id,
  c.save_id is not null, left(c.before, ${longest}), left(c.after, ${longest}), c.erased`
/** The same, as {@link columns} come. */
type Told = [
  ...[string, string, SaveAction, number, ActorKind, string | null, number | null],
  ...[boolean, string | null, string | null, boolean | null],
]

function rowOf(record_key: string, told: Told): Row {
  const [id, at, action, actor_id, actor_kind, run_id, correction_id, named, before, after, erased] = told
  // A time in JSON has its offset, which is that of UTC.
  const captured_at = at.replace('+00:00', 'Z')
  return {
    id,
    captured_at,
    record_key,
    action,
    actor_id,
    actor_kind,
    run_id,
    correction_id,
    named,
    before,
    after,
    erased,
  }
}

/** Which record it is, among those that had a key. */
export const recordId = (key: string, spans: readonly KeySpan[] | null): string => `${spans?.at(-1)?.to ?? ''} ${key}`

/** How far a reading is: so many saves of all that there are. */
export type Reached = (done: number) => Promise<void>

/**
 * What a field of every record of a type held, by whom and when it was brought, the same as each record's own story tells it,
 * some records at a time.
 * @param trx in a transaction, whose statements a cursor outlives
 * @param only the records of these keys, with every key that they ever had
 * @throws Problem where more records changed their keys than can be followed
 */
export async function* readLives(
  trx: Knex.Transaction,
  typeId: number,
  fieldId: number,
  only: readonly string[] | null = null,
  reached: Reached = async () => {},
): AsyncGenerator<ReadLife[]> {
  const among = only ? 'and s.record_key = any(?::text[])' : ''
  const keys = only ? [boundArray(only)] : []
  const moved = await movedKeys(trx, typeId, only)
  const coverage = await coverageOf(trx, typeId, async (spans) =>
    spans.length === 0 ? [] : await savesWithin(trx, typeId, spans, only),
  )
  const found = new Map<string, FoundValue[]>()
  for (const look of await findingsOfType(trx, typeId, fieldId, only ?? undefined))
    found.set(look.record_key, [...(found.get(look.record_key) ?? []), ...valueIn(look, fieldId)])
  const timeline = timelinesOf(coverage, fieldId)
  const read = (
    key: string,
    spans: readonly KeySpan[] | null,
    saves: readonly Row[],
    values: readonly FoundValue[],
  ): ReadLife => {
    const segments = timeline({ saves: saves.map((row) => saveOf(row, fieldId)), found: values })
    const byId = new Map(saves.map((row) => [row.id, row]))
    const life = lifeOf(segments, (id) => beginning(byId.get(id)!))
    return { key, id: recordId(key, spans), spans, life }
  }

  // All saves of a type are put in order at once, and all of them are fetched: a record a row, since many short rows take longer.
  await trx.raw(
    `set local work_mem = '64MB'; set local cursor_tuple_fraction = 1; set local enable_partitionwise_join = on`,
  )
  const cursor = `lives_${fieldId}`
  await trx.raw(
    `declare ${cursor} no scroll cursor for
     select s.record_key collate "C" as key, json_agg(json_build_array(${columns}) order by s.id) as saves
       from ledger.save s
       left join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = ?
      where s.type_id = ? and (c.save_id is not null or s.action <> 'change' or s.key_before is not null) ${among}
      group by 1`,
    [fieldId, typeId, ...keys],
  )
  const fetch = async () =>
    (await trx.raw<{ rows: { key: string; saves: Told[] }[] }>(`fetch ${atOnce} from ${cursor}`)).rows
  const rowsOfMoved = new Map<string, Row[]>()
  let done = 0
  for (let records = await fetch(); records.length > 0;) {
    // The database goes on while what came is worked on, others are served, and captured rows collected.
    const next = fetch()
    next.catch(() => undefined)
    const lives: ReadLife[] = []
    for (const [place, { key, saves }] of records.entries()) {
      if (place % breath === 0) await breathe()
      const rows = saves.map((told) => rowOf(key, told))
      if (moved.has(key)) rowsOfMoved.set(key, rows)
      else {
        lives.push(read(key, null, rows, found.get(key) ?? []))
        found.delete(key)
      }
      done += rows.length
    }
    if (lives.length > 0) yield lives
    await reached(done)
    records = await next
  }
  await trx.raw(`close ${cursor}`)
  const end: ReadLife[] = []
  for (const [key, values] of found) if (!moved.has(key)) end.push(read(key, null, [], values))
  for (const spans of await threadsOf(trx, typeId, moved, (key) => rowsOfMoved.get(key) ?? [])) {
    const within = (row: Row) => spans.some((span) => span.key === row.record_key && isWithin(row.id, span))
    const saves = [...new Set(spans.map(({ key }) => key))]
      .flatMap((key) => rowsOfMoved.get(key)?.filter(within) ?? [])
      .sort((a, b) => (BigInt(a.id) < BigInt(b.id) ? -1 : 1))
    const values = (await findingsOf(trx, typeId, spans)).flatMap((look) => valueIn(look, fieldId))
    end.push(read(spans.at(-1)!.key, spans, saves, values))
  }
  if (end.length > 0) yield end
}

/** Keys that records left or came to. */
async function movedKeys(
  trx: Knex.Transaction,
  typeId: number,
  only: readonly string[] | null,
): Promise<ReadonlySet<string>> {
  const bound = [typeId, ...(only ? [boundArray(only)] : [])]
  const { rows } = await trx.raw<{ rows: { key: string }[] }>(
    `select distinct m.key from ledger.save s cross join lateral (values (s.record_key), (s.key_before)) as m(key)
      where s.type_id = ? and s.key_before is not null ${only ? 'and s.record_key = any(?::text[])' : ''} limit ?`,
    [...bound, mostMoved + 1],
  )
  if (rows.length > mostMoved)
    throw new Problem(
      'too-large',
      `More than ${counted(mostMoved, 'record')} of this type changed their keys, and each has to be followed. Nothing was reckoned.`,
    )
  return new Set(rows.map(({ key }) => key))
}

async function savesWithin(
  trx: Knex.Transaction,
  typeId: number,
  spans: readonly Span[],
  only: readonly string[] | null,
): Promise<{ id: string; captured_at: string }[]> {
  const saves = trx('ledger.save').where({ type_id: typeId })
  if (only) void saves.whereRaw('record_key = any(?::text[])', [boundArray(only)])
  void saves.where((any) => {
    for (const [from, to] of spans)
      void any.orWhere((one) => one.where('captured_at', '>', from).where('captured_at', '<=', to))
  })
  return await saves.select<{ id: string; captured_at: string }[]>('id', 'captured_at')
}

const isWithin = (id: string, { from, to }: KeySpan) =>
  BigInt(id) >= BigInt(from) && (to === null || BigInt(id) < BigInt(to))

/** Records that changed their keys or left them to others, each once. */
async function threadsOf(
  trx: Knex.Transaction,
  typeId: number,
  keys: ReadonlySet<string>,
  savesOf: (key: string) => readonly Row[],
): Promise<KeySpan[][]> {
  const threads = new Map<string, KeySpan[]>()
  for (const key of keys) {
    const spans = await threadOf(trx, typeId, key)
    threads.set(JSON.stringify(spans), spans)
  }
  const all = [...threads.values()]
  // Whoever was deleted under a key that another took over later is a record, too.
  for (const key of keys) {
    const bearers = all.flat().filter((span) => span.key === key)
    const isBorne = ({ id }: Row) => bearers.some((span) => isWithin(id, span))
    for (let last = savesOf(key).findLast((row) => !isBorne(row)); last;) {
      const { id } = last
      const spans = await threadOf(trx, typeId, key, id)
      const own = spans.at(-1)!
      own.to = bearers
        .map(({ from }) => from)
        .filter((from) => BigInt(from) > BigInt(id))
        .reduce<string | null>((least, from) => (least === null || BigInt(from) < BigInt(least) ? from : least), null)
      all.push(spans)
      bearers.push(own)
      last = savesOf(key).findLast((row) => BigInt(row.id) < BigInt(id) && !isBorne(row))
    }
  }
  return all
}

function beginning({ id, captured_at, actor_id, actor_kind, run_id, correction_id }: Row): LifeSave {
  const runId = run_id === null ? null : Number(run_id)
  return {
    id: Number(id),
    at: microsOf(captured_at),
    actorId: actor_id,
    actorKind: actor_kind,
    runId,
    correctionId: correction_id,
  }
}

function saveOf({ id, captured_at, action, named, before, after, erased }: Row, fieldId: number): TrailSave {
  const changes = named ? [{ fieldId, before, after, hidden: erased ? ('erased' as const) : null }] : []
  return { id, at: captured_at, action, changes }
}

function valueIn(look: FoundLook, fieldId: number): FoundValue[] {
  const place = look.field_ids.indexOf(fieldId)
  if (place < 0) return []
  const hidden = isErased(look, fieldId) ? 'erased' : null
  return [
    { fieldId, at: look.instant, value: hidden ? null : (valuesOf(look)[place]?.slice(0, longest) ?? null), hidden },
  ]
}
