import type { Knex } from 'knex'
import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'
import type { Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { errorCode } from '../errors.ts'
import { ensureBase } from './base.ts'
import { captureSql } from './generate.ts'
import { allColumns, isByRow, qualified, type CapturedColumn, type CapturedTable } from './table.ts'

/** Record types are numbered by PostgreSQL's int; copies that are tried out are numbered from here on, above all real ones. */
const copyTypes = 2_000_000_000

/** What capturing a table came to when it was tried out on a copy of it. */
export interface TryOut {
  /** The source's words when it failed; null when it did not. */
  failure: string | null
  /** Fields that made no entry although they were changed. */
  missed: readonly number[]
  /** Fields of whose type no value was known, so that only NULL was written to them. */
  untried: readonly number[]
}

/** Ends a try-out: its transaction is rolled back. */
class Over extends Error {
  readonly result: TryOut
  constructor(result: TryOut) {
    super('over')
    this.result = result
  }
}

/** Values in the notations of many types; the first that a type takes is used. */
const literals = [
  '1',
  'a',
  '2026-01-31',
  '12:00',
  't',
  '{}',
  'empty',
  '00000000-0000-0000-0000-000000000000',
  '10.0.0.1',
  '08:00:2b:01:02:03',
  '(0,0)',
  '((0,0),(1,1))',
  '{1,2,3}',
  '<(0,0),1>',
  '0/0',
  'pg_class',
  '[]',
  '<a/>',
  '"a"=>"1"',
  '08:00:2b:01:02:03:04:05',
  '1:1:',
  '',
]

/**
 * Captures rows of a copy of a table in every way, one at a time and many at once, in a transaction that is rolled
 * back: what would make a trigger fail at its first real write is met here. Needs no row of the business and changes none.
 * @throws what shows that the source cannot be reached.
 */
export async function tryOut(source: Database, table: CapturedTable): Promise<TryOut> {
  try {
    return await source.transaction(async (trx): Promise<never> => {
      await plainQuery(trx, `set local lock_timeout = '800ms'; set local statement_timeout = '60s'`)
      await ensureBase(trx)
      // What is written here would be refused; that guards can be asked at all is what is tried.
      const guards = table.guards.map((one) => ({ ...one, guard: { ...one.guard, mode: 'warn' as const } }))
      const refusing = await captured(trx, { ...table, guards, onFailure: 'refuse' })
      // What is let through has a function of another make, in which a failure would not be heard of.
      const passing = table.onFailure === 'pass' ? (await captured(trx, table)).missed : []
      throw new Over({ ...refusing, missed: [...new Set([...refusing.missed, ...passing])] })
    })
  } catch (error) {
    if (error instanceof Over) return error.result
    if (errorCode(error) === undefined || /^(08|57P|55P03)/.test(errorCode(error)!)) throw error
    return { failure: (error as Error).message, missed: [], untried: [] }
  }
}

async function captured(trx: Knex.Transaction, table: CapturedTable): Promise<TryOut> {
  const copy = await copyOf(trx, table)
  const on = qualified(copy)
  await plainQuery(trx, captureSql(copy, 0))
  const values = await valuesFor(trx, allColumns(copy))
  const columns = allColumns(copy)
  const names = columns.map((column) => id(column.name)).join(', ')
  const row = columns.map((column) => values.get(column.typeId) ?? 'null').join(', ')
  const nothing = columns.map((column) => `${id(column.name)} = null`).join(', ')
  const expected = copy.fields.filter((field) => values.has(field.typeId)).map((field) => field.fieldId)
  const missed = new Set<number>()
  const step = async (sql: string) => {
    const since = await lastNumber(trx)
    await plainQuery(trx, sql)
    const seen = await fieldsSince(trx, copy.typeId, since)
    for (const fieldId of expected) if (!seen.has(fieldId)) missed.add(fieldId)
  }
  await step(`insert into ${on} (${names}) values (${row})`)
  await step(`update ${on} set ${nothing}`)
  await plainQuery(trx, `delete from ${on}`)
  await step(`insert into ${on} (${names}) values (${row}), (${row})`)
  await step(`update ${on} set ${nothing}`)
  await plainQuery(trx, `delete from ${on}`)
  await plainQuery(trx, `insert into ${on} (${names}) values (${row})`)
  await step(`delete from ${on}`)
  await plainQuery(trx, `insert into ${on} (${names}) values (${row}), (${row})`)
  await step(`delete from ${on}`)
  await plainQuery(trx, `insert into ${on} (${names}) values (${row})`)
  await step(`truncate ${on}`)
  const untried = copy.fields.filter((field) => !values.has(field.typeId)).map((field) => field.fieldId)
  return { failure: null, missed: [...missed], untried }
}

/** A table with the same columns, no rules and no rows, in Spoor's own schema, which needs no right that Spoor has not. */
async function copyOf(trx: Knex.Transaction, table: CapturedTable): Promise<CapturedTable> {
  const copy = { schema: 'spoor_capture', table: `tried_${table.typeId}_${table.onFailure}` }
  await plainQuery(trx, `create table ${qualified(copy)} (like ${qualified(table)})`)
  const rows = await plainQuery<{ oid: string; name: string; number: number; required: boolean }>(
    trx,
    `select attrelid::int8::text as oid, attname as name, attnum as number, attnotnull as required
       from pg_attribute where attrelid = ${quoteLiteral(qualified(copy))}::regclass and attnum > 0 and not attisdropped`,
  )
  const required = rows.filter((row) => row.required).map((row) => `alter column ${id(row.name)} drop not null`)
  if (required.length > 0) await plainQuery(trx, `alter table ${qualified(copy)} ${required.join(', ')}`)
  const numberOf = new Map(rows.map((row) => [row.name, row.number]))
  const there = <C extends CapturedColumn>(columns: readonly C[]): C[] =>
    columns.map((column) => ({ ...column, attributeNumber: numberOf.get(column.name)! }))
  return {
    ...table,
    ...copy,
    typeId: copyTypes + table.typeId,
    relationId: Number(rows[0]!.oid),
    descendants: [],
    ancestors: [],
    // The function that captures rows one by one is tried with the others.
    partitioned: table.partitioned || isByRow(table),
    reason: 'never',
    keyColumns: there(table.keyColumns),
    labelColumns: there(table.labelColumns),
    parentColumns: there(table.parentColumns),
    fields: there(table.fields).map((field) => ({ ...field, needsReason: false })),
  }
}

/** For each type among the columns a literal that it takes, where one is known. */
async function valuesFor(trx: Knex.Transaction, columns: readonly CapturedColumn[]): Promise<Map<number, string>> {
  const values = new Map<number, string>()
  const types = await plainQuery<{ oid: string; name: string; label: string | null; fields: number }>(
    trx,
    `select t.oid::int8::text as oid, format_type(t.oid, null) as name,
            (select quote_literal(e.enumlabel) from pg_enum e where e.enumtypid = t.oid order by e.enumsortorder limit 1) as label,
            (select count(*)::int from pg_attribute a where a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped) as fields
       from pg_type t where t.oid = any ($1::oid[])`,
    [[...new Set(columns.map((column) => column.typeId))]],
  )
  for (const { oid, name, label, fields } of types) {
    const composite = fields > 0 ? [`'(${','.repeat(fields - 1)})'`] : []
    for (const literal of [...(label === null ? [] : [label]), ...composite, ...literals.map(quoteLiteral)]) {
      const value = `${literal}::${name}`
      if (await isTaken(trx, value)) {
        values.set(Number(oid), value)
        break
      }
    }
  }
  return values
}

async function isTaken(trx: Knex.Transaction, value: string): Promise<boolean> {
  await plainQuery(trx, 'savepoint a_value')
  try {
    await plainQuery(trx, `select ${value}`)
    return true
  } catch (error) {
    if (errorCode(error) === undefined) throw error
    return false
  } finally {
    await plainQuery(trx, 'rollback to savepoint a_value')
  }
}

async function lastNumber(trx: Knex.Transaction): Promise<string> {
  const [row] = await plainQuery<{ seq: string }>(
    trx,
    `select coalesce(max(seq), 0)::text as seq from spoor_capture.outbox where transaction_id = pg_current_xact_id()`,
  )
  return row!.seq
}

/** Fields of a type of which this transaction's entries above a number speak. */
async function fieldsSince(trx: Knex.Transaction, typeId: number, seq: string): Promise<ReadonlySet<number>> {
  const rows = await plainQuery<{ field: string }>(
    trx,
    `select distinct json_object_keys(delta::json) as field from spoor_capture.outbox
      where seq > $1 and transaction_id = pg_current_xact_id() and type_id = $2`,
    [seq, typeId],
  )
  return new Set(rows.map((row) => Number(row.field)))
}
