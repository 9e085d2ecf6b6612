import { setImmediate as breathe } from 'node:timers/promises'
import {
  compareInstants,
  counted,
  timelinesOf,
  type ActorKind,
  type FoundValue,
  type Life,
  type SaveAction,
  type TrailSave,
} from '@spoor/core'
import type { Knex } from 'knex'
import { Problem } from '../errors.ts'
import { findingsOf, underWay } from '../found/read.ts'
import { isErased, valuesOf, type FoundRow } from '../found/record.ts'
import { coverageOf } from '../ledger/coverage.ts'
import { threadOf, type KeySpan } from '../ledger/thread.ts'

/** What is known of the save that began a spell. */
export interface LifeSave {
  at: string
  action: SaveAction
  actorId: number
  actorKind: ActorKind
  runId: string | null
  correctionId: number | null
}

/** A field of every record of a type, over all of time. */
export interface Lives {
  /** The key that each record has, or had last. */
  keys: string[]
  /** By the same place. */
  lives: Life[]
  saves: ReadonlyMap<string, LifeSave>
}

/** More are not held in memory while somebody waits. */
const mostEvidence = 1_500_000
/** Each of those that changed their key is followed by itself. */
const mostMoved = 3000
/** So many records are reckoned in one go. */
const atOnce = 500
/** A save that a plan's triggers captured comes so long at most before the plan is said to be in force. */
const earlyMs = 10_000

interface Row {
  id: string
  captured_at: string
  record_key: string
  key_before: string | null
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

/**
 * What a field of every record of a type held, by whom and when it was brought, the same as each record's own story tells it.
 * @param trx sees one state of the ledger throughout
 * @throws Problem where there is more than is held in memory
 */
export async function livesOf(trx: Knex.Transaction, typeId: number, fieldId: number): Promise<Lives> {
  // All saves of a type are put in order at once.
  await trx.raw(`set local work_mem = '64MB'`)
  const { rows } = await trx.raw<{ rows: Row[] }>(
    `select s.id, s.captured_at, s.record_key, s.key_before, s.action, coalesce(a.same_as, a.id) as actor_id, s.actor_kind,
            s.run_id, s.correction_id, c.save_id is not null as named, c.before, c.after, c.erased
       from ledger.save s
       join spoor.actor a on a.id = s.actor_id
       left join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = ?
      where s.type_id = ? and (c.save_id is not null or s.action <> 'change' or s.key_before is not null)
      order by s.id limit ?`,
    [fieldId, typeId, mostEvidence + 1],
  )
  if (rows.length > mostEvidence)
    throw new Problem(
      'too-large',
      `There are more than ${counted(mostEvidence, 'save')} to reckon this from. Nothing was reckoned: take a pivot of the changes instead.`,
    )
  const found = await foundOf(trx, typeId, fieldId)
  const coverage = await coverageOf(trx, typeId, await nearBeginnings(trx, typeId, rows))
  const moved = new Set(rows.flatMap((row) => (row.key_before === null ? [] : [row.key_before, row.record_key])))
  if (moved.size > mostMoved)
    throw new Problem(
      'too-large',
      `More than ${counted(mostMoved, 'record')} of this type changed their keys, and each has to be followed. Nothing was reckoned.`,
    )
  const own = new Map<string, { saves: Row[]; found: FoundValue[] }>()
  const at = (key: string) => {
    let one = own.get(key)
    if (!one) own.set(key, (one = { saves: [], found: [] }))
    return one
  }
  for (const row of rows) at(row.record_key).saves.push(row)
  for (const [key, value] of found) at(key).found.push(value)

  const lives: Lives = { keys: [], lives: [], saves: savesOf(rows) }
  const timeline = timelinesOf(coverage, fieldId)
  const live = (key: string, saves: readonly Row[], values: readonly FoundValue[]) => {
    lives.keys.push(key)
    lives.lives.push(timeline({ saves: saves.map((row) => saveOf(row, fieldId)), found: values }))
  }
  let reckoned = 0
  for (const [key, { saves, found: values }] of own) {
    if (moved.has(key)) continue
    live(key, saves, values)
    // Others are served, and captured rows collected, meanwhile.
    if (++reckoned % atOnce === 0) await breathe()
  }
  for (const spans of await threadsOf(trx, typeId, moved)) {
    const within = (row: Row) => spans.some((span) => span.key === row.record_key && isWithin(row.id, span))
    const saves = spans.flatMap(({ key }) => own.get(key)?.saves.filter(within) ?? [])
    const unique = [...new Set(saves)].sort((a, b) => (BigInt(a.id) < BigInt(b.id) ? -1 : 1))
    const values = (await findingsOf(trx, typeId, spans)).flatMap((row) =>
      valueIn(row, row.field_ids, fieldId, row.instant),
    )
    live(spans.at(-1)!.key, unique, values)
  }
  return lives
}

const isWithin = (id: string, { from, to }: KeySpan) =>
  BigInt(id) >= BigInt(from) && (to === null || BigInt(id) < BigInt(to))

/** Records that changed their keys, each once. */
async function threadsOf(trx: Knex.Transaction, typeId: number, keys: ReadonlySet<string>): Promise<KeySpan[][]> {
  const threads = new Map<string, KeySpan[]>()
  for (const key of keys) {
    const spans = await threadOf(trx, typeId, key)
    threads.set(JSON.stringify(spans), spans)
  }
  return [...threads.values()]
}

function savesOf(rows: readonly Row[]): Map<string, LifeSave> {
  return new Map(
    rows.map((row) => [
      row.id,
      {
        at: row.captured_at,
        action: row.action,
        actorId: row.actor_id,
        actorKind: row.actor_kind,
        runId: row.run_id,
        correctionId: row.correction_id,
      },
    ]),
  )
}

function saveOf({ id, captured_at, action, named, before, after, erased }: Row, fieldId: number): TrailSave {
  const changes = named ? [{ fieldId, before, after, hidden: erased ? ('erased' as const) : null }] : []
  return { id, at: captured_at, action, changes }
}

function valueIn(row: FoundRow, fieldIds: readonly number[], fieldId: number, at: string): FoundValue[] {
  const place = fieldIds.indexOf(fieldId)
  if (place < 0) return []
  const hidden = isErased(row, fieldId) ? 'erased' : null
  return [{ fieldId, at, value: hidden ? null : (valuesOf(row)[place] ?? null), hidden }]
}

/** What was found of each record, by the key that it had then. */
async function foundOf(trx: Knex.Transaction, typeId: number, fieldId: number): Promise<[string, FoundValue][]> {
  const { rows } = await trx.raw<{ rows: (FoundRow & { field_ids: number[] })[] }>(
    `select f.taking_id, f.place, f.record_key, f.at, f.vals, f.kept, t.field_ids
       from ledger.found f join spoor.taking t on t.id = f.taking_id
      where f.type_id = ? and ? = any(t.field_ids)`,
    [typeId, fieldId],
  )
  if (rows.length === 0) return []
  // A change that was under way while its record was read came after what was read, whatever the clocks say.
  const { rows: early } = await trx.raw<{ rows: { taking_id: number; place: string; instant: string }[] }>(
    `select f.taking_id, f.place, min(s.captured_at) - interval '1 microsecond' as instant
       from spoor.taking t
       join ledger.found f on f.taking_id = t.id
       join ledger.save s on s.type_id = t.type_id and (s.record_key = f.record_key or s.key_before = f.record_key)
        and s.captured_at <= f.at and s.captured_at > f.at - interval '7 days'
        and s.captured_at > t.began_at - interval '7 days' and s.captured_at <= coalesce(t.ended_at, clock_timestamp())
      where t.type_id = ? and ? = any(t.field_ids) and (${underWay}) group by 1, 2`,
    [typeId, fieldId],
  )
  const earlier = new Map(early.map(({ taking_id, place, instant }) => [`${taking_id} ${place}`, instant]))
  return rows.flatMap((row) =>
    valueIn(row, row.field_ids, fieldId, earlier.get(`${row.taking_id} ${row.place}`) ?? row.at).map(
      (value): [string, FoundValue] => [row.record_key, value],
    ),
  )
}

/** Saves so near to where tracking began that they may bear out that it began earlier. */
async function nearBeginnings(
  trx: Knex.Transaction,
  typeId: number,
  rows: readonly Row[],
): Promise<{ id: string; captured_at: string }[]> {
  const begun = await trx('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .where('f.type_id', typeId)
    .distinct<{ from_at: string }[]>('c.from_at')
  const spells = begun.map(({ from_at }) => [new Date(Date.parse(from_at) - earlyMs).toISOString(), from_at] as const)
  return rows.filter(({ captured_at }) =>
    spells.some(([from, to]) => compareInstants(from, captured_at) <= 0 && compareInstants(captured_at, to) <= 0),
  )
}
