import type { BlindSpot } from '@spoor/contract'
import { keepOf } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { quoteIdentifier as id } from '../database/identifier.ts'
import { errorCode } from '../errors.ts'
import { perDay, readRates, type Rates } from './activity.ts'
import { planInForce } from './plan-store.ts'

/** Fewer rows a day than this are not worth a line. */
const leastPerDay = 0.5
const sampledRows = 600
const scanTimeoutMs = 2000

interface LookedType {
  id: number
  schema_name: string
  table_name: string
  key_columns: string[]
  fields: { id: number; column: string }[]
}

/**
 * Looks whether untracked fields of tracked types have changed since the last look, in the newest rows and some
 * others. The source's counters say how many rows were written and not what changed in them; this tells what.
 */
export async function lookForUnseen(db: Database, source: Database, sourceId: number): Promise<void> {
  const { plan } = await planInForce(db, sourceId)
  const { rows: types } = await db.raw<{ rows: LookedType[] }>(
    `select t.id, t.schema_name, t.table_name, t.key_columns,
            json_agg(json_build_object('id', f.id, 'column', f.column_name) order by f.id) as fields
       from spoor.record_type t join spoor.field f on f.type_id = t.id and f.present and not f.generated
      where t.source_id = ? and t.present and t.obstacle is null and t.id = any(?::int[]) group by t.id`,
    [sourceId, boundArray(Object.keys(plan.types).map(Number))],
  )
  for (const type of types) {
    const untracked = type.fields.filter((field) => keepOf(plan, type.id, field.id) === 'off')
    if (untracked.length > 0) await lookAtType(db, source, type, untracked)
  }
}

async function lookAtType(
  db: Database,
  source: Database,
  type: LookedType,
  untracked: LookedType['fields'],
): Promise<void> {
  const before = await db('spoor.unseen_sample')
    .where({ type_id: type.id })
    .select<{ record_key: string; hashes: Record<string, string> }[]>('record_key', 'hashes')
  const table = `${id(type.schema_name)}.${id(type.table_name)}`
  const key = `json_build_array(${type.key_columns.map((column) => `t.${id(column)}::text`).join(', ')})::text`
  const hashes = `json_build_object(${untracked.map((field) => `'${field.id}', hashtextextended(coalesce(t.${id(field.column)}::text, '\\'), 0)::text`).join(', ')})`
  const newest = type.key_columns.map((column) => `t.${id(column)} desc`).join(', ')
  const known = boundArray(before.map((row) => row.record_key))
  try {
    const rows = await source.transaction(async (trx) => {
      await plainQuery(trx, `set local statement_timeout = '${scanTimeoutMs}ms'; set local lock_timeout = '200ms'`)
      return await plainQuery<{ key: string; hashes: Record<string, string> }>(
        trx,
        `select ${key} as key, ${hashes} as hashes from (
           (select * from ${table} t order by ${newest} limit ${sampledRows})
           union all (select * from ${table} t where ${key} = any($1::text[])) ) t`,
        [known],
      )
    })
    await compare(db, type.id, before, rows)
  } catch (error) {
    // A table that is too large or busy to look at stays not known; its counts are still shown.
    if (!['57014', '55P03'].includes(errorCode(error) ?? '')) throw error
  }
}

async function compare(
  db: Database,
  typeId: number,
  before: readonly { record_key: string; hashes: Record<string, string> }[],
  now: readonly { key: string; hashes: Record<string, string> }[],
): Promise<void> {
  const held = new Map(now.map((row) => [row.key, row.hashes]))
  const changed = new Set<number>()
  for (const { record_key, hashes } of before) {
    const then = held.get(record_key)
    if (!then) continue
    for (const [fieldId, hash] of Object.entries(hashes))
      if (then[fieldId] !== undefined && then[fieldId] !== hash) changed.add(Number(fieldId))
  }
  await db.transaction(async (trx) => {
    if (changed.size > 0)
      await trx('spoor.field')
        .whereIn('id', [...changed])
        .update({ unseen_at: trx.fn.now() })
    await trx('spoor.unseen_sample').where({ type_id: typeId }).delete()
    const rows = [...held]
      .slice(0, sampledRows)
      .map(([record_key, hashes]) => ({ type_id: typeId, record_key, hashes: JSON.stringify(hashes) }))
    if (rows.length > 0) await trx.batchInsert('spoor.unseen_sample', rows, 300)
  })
}

/** How many rows a day are written without a save, at most, by type; null where it is not known. */
export function unseenPerDay(rates: Rates, typeId: number): number | null {
  const written = rates.written.get(typeId)
  return written ? Math.max(0, perDay(written).all - (rates.saves.get(typeId) ?? 0)) : null
}

/**
 * What changes without reaching the ledger, worst first: types that are written and not tracked, and tracked ones
 * whose untracked fields were seen to change.
 */
export async function blindSpots(db: Database, sourceId: number): Promise<BlindSpot[]> {
  const rates = await readRates(db, sourceId)
  const { plan } = await planInForce(db, sourceId)
  const { rows } = await db.raw<{ rows: { type_id: number; field_ids: number[] | null }[] }>(
    `select t.id as type_id, array_agg(f.id order by f.id) filter (where f.unseen_at > now() - make_interval(days => 28)) as field_ids
       from spoor.record_type t join spoor.field f on f.type_id = t.id and f.present where t.source_id = ? and t.present group by t.id`,
    [sourceId],
  )
  return rows
    .flatMap(({ type_id: typeId, field_ids }): BlindSpot[] => {
      const written = rates.written.get(typeId)
      const tracked = plan.types[typeId] !== undefined
      const fieldIds = (field_ids ?? []).filter((fieldId) => keepOf(plan, typeId, fieldId) === 'off')
      const unseen = unseenPerDay(rates, typeId) ?? 0
      if (!written || (tracked && fieldIds.length === 0) || (unseen < leastPerDay && fieldIds.length === 0)) return []
      const spell = { from: new Date(written.fromMs).toISOString(), to: new Date(written.toMs).toISOString() }
      return [{ typeId, fieldIds, tracked, perDay: unseen, ...spell }]
    })
    .sort((a, b) => b.perDay - a.perDay)
}
