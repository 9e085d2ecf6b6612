import { compareInstants } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import type { KeySpan } from './thread.ts'
import { foundColumns, isErased, valuesOf, type FoundRow } from './found-record.ts'

/** A value that was there when tracking began, as it may be shown. */
export interface FoundShown {
  fieldId: number
  at: string
  value: string | null
  hidden: 'erased' | 'masked' | null
}

/** One look at a record, when it was there under the key it had then. */
export interface Finding extends FoundRow {
  field_ids: number[]
  /** Just before the first change that the reading did not show, if that was captured before it. */
  instant: string
}

export interface FoundOfRecord {
  values: FoundShown[]
  /** What it was called when it was found first. */
  label: string | null
}

/**
 * Whether a save `s` was captured before a reading `f` of the taking `t` and committed after it: its transaction was under
 * way, or began between the snapshot and the look at the clock. A snapshot ends behind the last transaction that had ended,
 * so one that goes on alone is beyond its end however long ago it wrote. Transactions of before the taking are not asked for
 * their numbers, which a source that was restored elsewhere draws anew: what had been collected then was over.
 */
export const underWay = `case
  when s.transaction_id::xid8 >= pg_snapshot_xmax(f.snapshot::pg_snapshot) then s.collected_at > t.began_at - interval '1 minute'
  else s.captured_at > f.at - interval '7 days' and s.transaction_id::xid8 in (select pg_snapshot_xip(f.snapshot::pg_snapshot)) end`

/**
 * The saves of a record `f` under which a reading may have been made: looked for among its own, by their index. The least
 * moment of all saves would be looked for in the order of time, through all of them.
 */
const savesAround = ['record_key', 'key_before']
  .map(
    (key) => `select o.captured_at, o.collected_at, o.transaction_id from ledger.save o
                where o.type_id = f.type_id and o.${key} = f.record_key and o.captured_at <= f.at and o.captured_at > f.at - interval '7 days'`,
  )
  .join(' union all ')
  .concat(' offset 0')

/**
 * What was found of one record through the keys it had, in the order of time. A change that was captured before the
 * reading and committed after it is not in what was read, which then stands at the moment before that change.
 */
export async function findingsOf(db: Database, typeId: number, spans: readonly KeySpan[]): Promise<Finding[]> {
  const { rows } = await db.raw<{ rows: Finding[] }>(
    `select * from (
       select ${foundColumns}, t.field_ids,
         coalesce((select min(s.captured_at) - interval '1 microsecond' from (${savesAround}) as s where ${underWay}), f.at) as instant
       from ledger.found f join spoor.taking t on t.id = f.taking_id
       where f.type_id = ? and f.record_key = any(?::text[])) as f order by instant`,
    [typeId, boundArray(spans.map((span) => span.key))],
  )
  if (rows.length === 0) return []
  const timesOf = new Map<string, string>()
  const ends = spans.flatMap(({ from, to }) => [from, to]).filter((id): id is string => id !== null && id !== '0')
  for (const row of await db('ledger.save')
    .whereRaw('id = any(?::bigint[])', [boundArray(ends)])
    .select<{ id: string; captured_at: string }[]>('id', 'captured_at'))
    timesOf.set(row.id, row.captured_at)
  const within = (row: Finding) =>
    spans.some(({ key, from, to }) => {
      const [begun, ended] = [timesOf.get(from), to === null ? undefined : timesOf.get(to)]
      return (
        key === row.record_key &&
        (begun === undefined || compareInstants(begun, row.instant) <= 0) &&
        (ended === undefined || compareInstants(row.instant, ended) < 0)
      )
    })
  return rows.filter(within)
}

/** What was found of one record, for the sake of one field. */
export type FoundLook = Pick<Finding, 'record_key' | 'vals' | 'kept' | 'field_ids' | 'instant'>

/**
 * What was found of every record of a type in which a field was looked at, under the key that the record had then: the same
 * as {@link findingsOf} tells of each.
 * @param only of these keys
 */
export async function findingsOfType(
  db: Database,
  typeId: number,
  fieldId: number,
  only?: readonly string[],
): Promise<FoundLook[]> {
  const of = only ? 'and f.record_key = any(?::text[])' : ''
  const keys = only ? [boundArray(only)] : []
  const save = (key: string) => `select ${key} as key, captured_at, collected_at, transaction_id from ledger.save
      where type_id = ? and ${key} is not null
        and captured_at > (select min(began_at) - interval '7 days' from spoor.taking where type_id = ?)
        and captured_at <= (select max(coalesce(ended_at, clock_timestamp())) from spoor.taking where type_id = ?)`
  const { rows } = await db.raw<{ rows: FoundLook[] }>(
    `select f.record_key, f.vals, f.kept, t.field_ids, coalesce(early.instant, f.at) as instant
       from ledger.found f join spoor.taking t on t.id = f.taking_id
       left join (
         select f.taking_id, f.place, min(s.captured_at) - interval '1 microsecond' as instant
           from spoor.taking t join ledger.found f on f.taking_id = t.id
           join (${save('record_key')} union all ${save('key_before')}) as s
             on s.key = f.record_key and s.captured_at <= f.at and s.captured_at > f.at - interval '7 days'
          where t.type_id = ? ${of} and ${underWay} group by 1, 2) as early
         on early.taking_id = f.taking_id and early.place = f.place
      where f.type_id = ? ${of} and ? = any(t.field_ids)`,
    [...Array<number>(7).fill(typeId), ...keys, typeId, ...keys, fieldId],
  )
  return rows
}

/**
 * The same as it may be shown.
 * @param length longer values come cut
 */
export async function foundOf(
  db: Database,
  typeId: number,
  spans: readonly KeySpan[],
  masked: ReadonlySet<number>,
  length: number,
): Promise<FoundOfRecord> {
  const own = await findingsOf(db, typeId, spans)
  const values = own.flatMap((row) => {
    const held = valuesOf(row)
    return row.field_ids.map((fieldId, at): FoundShown => {
      const hidden = isErased(row, fieldId) ? 'erased' : masked.has(fieldId) ? 'masked' : null
      return { fieldId, at: row.instant, hidden, value: hidden ? null : (held[at]?.slice(0, length) ?? null) }
    })
  })
  return { values, label: own[0]?.label ?? null }
}
