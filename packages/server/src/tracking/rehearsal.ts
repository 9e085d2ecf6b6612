import { comparePlans, guardDifferences, withEdits } from '@spoor/core'
import type { TypeRehearsal } from '@spoor/contract'
import type { Knex } from 'knex'
import { ensureBase } from '../capture/base.ts'
import { captureSql } from '../capture/generate.ts'
import { qualified, type CapturedColumn, type CapturedTable } from '../capture/table.ts'
import { plainQuery } from '../database/plain.ts'
import { quoteIdentifier as id } from '../database/identifier.ts'
import type { Database } from '../database/knex.ts'
import { errorCode } from '../errors.ts'
import type { Sources } from '../sources/registry.ts'
import { installation, refreshed } from './capture-plan.ts'
import { planInForce, readDraft } from './plan-store.ts'

const copiedRows = 200
/** Numbers of record types that the trial's own functions are named by; no real one is so high. */
const trialTypes = 2_000_000_000
const trialTimeoutMs = 5000

/** Ends a trial: its transaction is rolled back. */
class Over extends Error {
  readonly result: Omit<TypeRehearsal, 'typeId'>
  constructor(result: Omit<TypeRehearsal, 'typeId'>) {
    super('over')
    this.result = result
  }
}

/**
 * Takes the time of writing rows with and without the triggers of the draft. Real rows are copied into temporary
 * tables of the same transaction, which is rolled back, so that no table of the business is locked for it.
 */
export async function rehearseDraft(db: Database, sources: Sources, sourceId: number): Promise<TypeRehearsal[]> {
  const tables = await refreshed(sources, sourceId)
  const { plan } = await planInForce(db, sourceId)
  const next = withEdits(plan, (await readDraft(db, sourceId)).edits)
  const work = await installation(db, sourceId, tables, plan, next, 0)
  const touched = new Set([...comparePlans(plan, next), ...guardDifferences(plan, next)].map((one) => one.typeId))
  const source = await sources.connection(sourceId)
  const results: TypeRehearsal[] = []
  for (const table of work.install.filter((one) => touched.has(one.typeId)))
    results.push({ typeId: table.typeId, ...(await rehearseTable(source, table)) })
  return results
}

async function rehearseTable(source: Database, table: CapturedTable): Promise<Omit<TypeRehearsal, 'typeId'>> {
  try {
    return await source.transaction(async (trx) => {
      throw new Over(await timed(trx, table))
    })
  } catch (error) {
    if (error instanceof Over) return error.result
    if (errorCode(error) === undefined) throw error
    return { rows: 0, plainMs: null, trackedMs: null, why: `the source answered: ${(error as Error).message}` }
  }
}

async function timed(trx: Knex.Transaction, table: CapturedTable): Promise<Omit<TypeRehearsal, 'typeId'>> {
  await plainQuery(trx, `set local statement_timeout = '${trialTimeoutMs}ms'; set local lock_timeout = '300ms'`)
  await ensureBase(trx)
  const key = table.keyColumns.map((column) => id(column.name)).join(', ')
  for (const name of ['spoor_trial_plain', 'spoor_trial_tracked'])
    await plainQuery(
      trx,
      `create temp table ${name} on commit drop as select * from ${qualified(table)} limit ${copiedRows};
       alter table ${name} add primary key (${key})`,
    )
  const [copy] = await plainQuery<{ oid: string; schema: string; rows: string }>(
    trx,
    `select 'spoor_trial_tracked'::regclass::oid::int8::text as oid, n.nspname as schema, (select count(*) from spoor_trial_tracked)::text as rows
       from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.oid = 'spoor_trial_tracked'::regclass`,
  )
  const rows = Number(copy!.rows)
  if (rows === 0) return { rows, plainMs: null, trackedMs: null, why: 'the table is empty' }
  await plainQuery(trx, captureSql(await onCopy(trx, table, Number(copy!.oid), copy!.schema), 0))
  const written = await fullest(trx, table)
  if (!written) return { rows, plainMs: null, trackedMs: null, why: 'only fields of its key would be tracked' }
  const plainMs = await writeRows(trx, 'spoor_trial_plain', table, written)
  const trackedMs = await writeRows(trx, 'spoor_trial_tracked', table, written)
  return { rows, plainMs, trackedMs, why: null }
}

/** The same capture for the copy, whose columns are numbered anew. */
async function onCopy(
  trx: Knex.Transaction,
  table: CapturedTable,
  oid: number,
  schema: string,
): Promise<CapturedTable> {
  const numbers = await plainQuery<{ name: string; number: number }>(
    trx,
    'select attname as name, attnum as number from pg_attribute where attrelid = $1 and attnum > 0',
    [oid],
  )
  const numberOf = new Map(numbers.map((row) => [row.name, row.number]))
  const there = <C extends CapturedColumn>(columns: readonly C[]): C[] =>
    columns.map((column) => ({ ...column, attributeNumber: numberOf.get(column.name)! }))
  return {
    ...table,
    typeId: trialTypes + table.typeId,
    relationId: oid,
    schema,
    table: 'spoor_trial_tracked',
    descendants: [],
    partitioned: false,
    ancestors: [],
    nests: false,
    reason: 'never',
    guards: table.guards.map((one) => ({ ...one, guard: { ...one.guard, mode: 'warn' as const } })),
    keyColumns: there(table.keyColumns),
    labelColumns: there(table.labelColumns),
    parentColumns: there(table.parentColumns),
    fields: there(table.fields).map((field) => ({ ...field, needsReason: false })),
  }
}

/** The field with the most values to write over. */
async function fullest(trx: Knex.Transaction, table: CapturedTable): Promise<CapturedColumn | undefined> {
  const keys = new Set(table.keyColumns.map((column) => column.name))
  const fields = table.fields.filter((field) => !keys.has(field.name))
  if (fields.length === 0) return undefined
  const counts = fields.map((field, at) => `count(${id(field.name)})::int as c${at}`).join(', ')
  const [row] = await plainQuery<Record<string, number>>(trx, `select ${counts} from spoor_trial_tracked`)
  const most = Math.max(...fields.map((_, at) => row![`c${at}`]!))
  return fields.find((_, at) => row![`c${at}`] === most)
}

/** Writes each row by itself, its field to nothing. @returns milliseconds a row. */
async function writeRows(
  trx: Knex.Transaction,
  name: string,
  table: CapturedTable,
  field: CapturedColumn,
): Promise<number> {
  const [column, first] = [id(field.name), id(table.keyColumns[0]!.name)]
  const same = table.keyColumns.map(({ name: key }) => `t.${id(key)} = one.${id(key)}`).join(' and ')
  await plainQuery(
    trx,
    `do $trial$
     declare one record; begun timestamptz; writes int := 0;
     begin
       begun := clock_timestamp();
       for one in select * from ${name} order by ${first} loop
         update ${name} t set ${column} = null where ${same};
         writes := writes + 1;
       end loop;
       perform set_config('spoor.trial', (extract(epoch from clock_timestamp() - begun) * 1000 / writes)::text, true);
     end $trial$`,
  )
  const [row] = await plainQuery<{ ms: string }>(trx, `select current_setting('spoor.trial') as ms`)
  return Number(row!.ms)
}
