import { runWords, type RecordRef, type RunKind, type Scope } from '@spoor/core'
import { boundArray, type Database } from '../../database/knex.ts'
import { isLimited } from '../../ledger/reach.ts'
import { whereScope } from '../../ledger/scope-sql.ts'
import { seenRecord } from './seen-record.ts'

/** What records are called within a reach, by `t3:["7"]`: "tenancy 15753 · 22 Weir Cottages". */
export async function recordNames(
  db: Database,
  records: readonly RecordRef[],
  reach: Scope,
  nowMs: number,
): Promise<Map<string, string>> {
  if (records.length === 0) return new Map()
  const { rows } = await db.raw<{ rows: { type_id: number; record_key: string; label: string; name: string }[] }>(
    `select r.type_id, r.record_key, r.label, t.name
       from unnest(?::int[], ?::text[]) as wanted(type_id, record_key)
       join ${isLimited(reach) ? 'lateral ?' : 'spoor.record'} r using (type_id, record_key) join spoor.record_type t on t.id = r.type_id`,
    [
      boundArray(records.map((ref) => ref.typeId)),
      boundArray(records.map((ref) => ref.key)),
      ...(isLimited(reach) ? [seenRecord(db, reach, nowMs, 'wanted')] : []),
    ],
  )
  return new Map(rows.map((row) => [`t${row.type_id}:${row.record_key}`, `${row.name} ${row.label}`]))
}

/** What runs called themselves, by number, with as many saves as there are within a reach. */
export async function runNames(
  db: Database,
  ids: readonly string[],
  reach: Scope,
  nowMs: number,
): Promise<Map<string, string>> {
  if (ids.length === 0) return new Map()
  const runs = db('ledger.run as n').whereRaw('n.id = any(?::bigint[])', [boundArray(ids)])
  if (isLimited(reach)) {
    void runs
      .join('ledger.save as s', 's.run_id', 'n.id')
      .groupBy('n.id')
      .select('n.id', 'n.kind', 'n.declared', db.raw('count(*) as saves'))
    whereScope(runs, reach, 'save', 's', nowMs)
  } else void runs.select('n.id', 'n.kind', 'n.declared', 'n.saves')
  const rows = (await runs) as { id: string; kind: RunKind; declared: string | null; saves: string }[]
  return new Map(rows.map((row) => [row.id, runWords(row.kind, row.declared, Number(row.saves))]))
}
