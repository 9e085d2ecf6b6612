import {
  counted,
  groupBy,
  itemPlace,
  placeOfRecord,
  type CurrentValue,
  type RecordAct,
  type RevertItem,
} from '@spoor/core'
import type { Knex } from 'knex'
import { plainQuery } from '../database/plain.ts'
import { quoteIdentifier as id } from '../database/identifier.ts'
import { errorCode } from '../errors.ts'
import { isUnreachable } from '../sources/trouble.ts'

export interface WritableField {
  fieldId: number
  column: string
  /** As it can be written in a cast whatever the search path is. */
  castType: string
  /** Catalogue name with domains resolved. */
  baseType: string
  boolean: boolean
  generated: boolean
}

/** A table of the source as a correction needs it. */
export interface WritableTable {
  typeId: number
  schema: string
  table: string
  key: readonly Omit<WritableField, 'fieldId'>[]
  fields: ReadonlyMap<number, WritableField>
  /** What refers to its rows. */
  referredBy: readonly { schema: string; table: string; columns: string[]; toColumns: string[] }[]
}

/** Told how many values have been read or written. @throws what is to end it */
export type Tell = (done: number) => Promise<void>

/** So many records at most are read or written by one statement. */
const mostAtOnce = 5000

function* portions<T>(list: readonly T[]): Generator<T[]> {
  for (let from = 0; from < list.length; from += mostAtOnce) yield list.slice(from, from + mostAtOnce)
}

/** A record that cannot be written as it was asked for, in words. */
export class ActRefused extends Error {}

const name = (table: WritableTable) => `${id(table.schema)}.${id(table.table)}`
/** A value as the capture writes it: by its type's output function, a boolean as a word; NULL of NULL. */
function text(value: string, { boolean }: Pick<WritableField, 'boolean'>): string {
  return boolean
    ? `(${value})::pg_catalog.text`
    : `case when ${value} is distinct from null then format('%s', ${value}) end`
}

/** How values were written when they were captured; the business's own triggers keep the search path they are used to. */
async function reading<T>(trx: Knex.Transaction, work: () => Promise<T>): Promise<T> {
  const [before] = await plainQuery<{ path: string }>(trx, `select current_setting('search_path') as path`)
  await plainQuery(trx, 'set local search_path = pg_catalog, pg_temp')
  const result = await work()
  await plainQuery(trx, `select set_config('search_path', $1, true)`, [before!.path])
  return result
}

interface Column {
  name: string
  values: (string | null | undefined)[]
}

/** `unnest` of text arrays as a relation `w`, and what is bound to it. */
function unnested(columns: readonly Column[]): [relation: string, bound: Column['values'][]] {
  const arrays = columns.map((_, at) => `$${at + 1}::text[]`).join(', ')
  return [`unnest(${arrays}) as w(${columns.map(({ name }) => name).join(', ')})`, columns.map(({ values }) => values)]
}

/** The parts of keys, and the keys as they are written. */
function keyColumns(table: WritableTable, keys: readonly string[]): Column[] {
  const parts = keys.map((key) => JSON.parse(key) as string[])
  return [
    ...table.key.map((_, at) => ({ name: `k${at}`, values: parts.map((key) => key[at]) })),
    { name: 'wanted', values: [...keys] },
  ]
}

const keysOf = (acts: readonly RecordAct[]) => acts.map(({ key }) => key)

/** What some rows hold now, by key, as the capture would write it. Rows that are not there are left out. */
export async function readRows(
  trx: Knex.Transaction,
  table: WritableTable,
  fields: readonly WritableField[],
  written: readonly string[],
  { lock = null }: { lock?: 'for update of t' | 'for update of t skip locked' | null } = {},
): Promise<Map<string, Map<number, string | null>>> {
  const [wanted, bound] = unnested(keyColumns(table, written))
  const rows = await reading(trx, () =>
    plainQuery<{ wanted: string; held: (string | null)[] }>(
      trx,
      `select w.wanted, array[${fields.map((field) => text(`t.${id(field.column)}`, field)).join(', ')}]::text[] as held
         from ${wanted} join ${name(table)} t on ${keyMatch(table)} ${lock ?? ''}`,
      bound,
    ),
  )
  return new Map(
    rows.map(({ wanted, held }) => [wanted, new Map(fields.map((field, at) => [field.fieldId, held[at] ?? null]))]),
  )
}

/** Values of a field in the form in which the capture would write them; null where the source does not take one of them. */
export async function rewritten(
  trx: Knex.Transaction,
  field: WritableField,
  values: readonly string[],
): Promise<(string | null)[] | null> {
  await plainQuery(trx, 'savepoint rewriting')
  try {
    const rows = await reading(trx, () =>
      plainQuery<{ value: string | null }>(
        trx,
        `select ${text(`w.value::${field.castType}`, field)} as value from unnest($1::text[]) with ordinality as w(value, place) order by w.place`,
        [values],
      ),
    )
    await plainQuery(trx, 'release savepoint rewriting')
    return rows.map((row) => row.value)
  } catch (error) {
    if (isUnreachable(error) || errorCode(error) === undefined) throw error
    await plainQuery(trx, 'rollback to savepoint rewriting')
    return null
  }
}

/** Reads what the source holds now for some items and locks those rows until the transaction ends. */
export async function lockCurrent(
  trx: Knex.Transaction,
  tables: ReadonlyMap<number, WritableTable>,
  items: readonly RevertItem[],
  tell?: Tell,
): Promise<(item: RevertItem) => CurrentValue> {
  let done = 0
  const found = new Map<string, Map<number, string | null>>()
  for (const [typeId, ofType] of groupBy(items, (item) => item.typeId)) {
    const table = tables.get(typeId)
    if (!table) continue
    const fields = [...new Set(ofType.map((item) => item.fieldId))].flatMap(
      (fieldId) => table.fields.get(fieldId) ?? [],
    )
    const keys = [...new Set(ofType.map((item) => item.key))]
    for (const some of portions(keys)) {
      for (const [key, held] of await readRows(trx, table, fields, some, { lock: 'for update of t' }))
        found.set(placeOfRecord({ typeId, key }), held)
      await tell?.((done += Math.round((some.length * ofType.length) / keys.length)))
    }
  }
  return (item) => {
    const field = tables.get(item.typeId)?.fields.get(item.fieldId)
    if (!field) return { state: 'blocked', why: 'field-gone' }
    const held = found.get(placeOfRecord(item))
    if (!held) return { state: 'absent' }
    return { state: 'value', value: held.get(item.fieldId) ?? null }
  }
}

function keyMatch(table: WritableTable): string {
  // Two keys may be equal and not the same: the text decides, `=` finds it.
  return table.key
    .map(
      (part, at) =>
        `t.${id(part.column)} = w.k${at}::${part.castType} and (${text(`t.${id(part.column)}`, part)}) collate pg_catalog."C" = w.k${at}`,
    )
    .join(' and ')
}

/**
 * Carries acts out in their order, those of one kind and type together; each value only where the expected one still stands.
 * @returns the places that were written; a record missing there held something else by then.
 * @throws ActRefused where the source would not have a record as it is to be, or others depend on one that is to go
 */
export async function writeActs(
  trx: Knex.Transaction,
  tables: ReadonlyMap<number, WritableTable>,
  acts: readonly RecordAct[],
  tell?: Tell,
): Promise<Set<string>> {
  let done = 0
  const written = new Set<string>()
  const sorted = acts.map((one) => ({ ...one, writes: one.writes.toSorted((a, b) => a.fieldId - b.fieldId) }))
  for (const run of groupBy(sorted, (one) => `${one.step}/${one.act}/${one.typeId}`).values()) {
    const { act, typeId } = run[0]!
    const table = tables.get(typeId)!
    if (act === 'remove') await demandNoneDepends(trx, table, run)
    const write = { set: updateGroup, recreate: insertGroup, remove: deleteGroup }[act]
    for (const group of groupBy(run, ({ writes }) => writes.map((one) => one.fieldId).join()).values())
      for (const some of portions(group)) {
        for (const key of await write(trx, table, some))
          for (const { fieldId } of group[0]!.writes) written.add(itemPlace({ typeId, key, fieldId }))
        await tell?.((done += some.length * group[0]!.writes.length))
      }
  }
  return written
}

const fieldsWritten = (table: WritableTable, group: readonly RecordAct[]) =>
  group[0]!.writes.map(({ fieldId }) => table.fields.get(fieldId)!)

/** That the expected values stand, of which `w` holds the one of the field at a place as `e` and its number. */
const guards = (fields: readonly WritableField[]) =>
  fields
    .map(
      (field, at) =>
        ` and (${text(`t.${id(field.column)}`, field)}) collate pg_catalog."C" is not distinct from ${text(`w.e${at}::${field.castType}`, field)}`,
    )
    .join('')

const expectedColumns = (group: readonly RecordAct[]): Column[] =>
  group[0]!.writes.map((_, at) => ({ name: `e${at}`, values: group.map(({ writes }) => writes[at]!.expected) }))
const valueColumns = (group: readonly RecordAct[]): Column[] =>
  group[0]!.writes.map((_, at) => ({ name: `v${at}`, values: group.map(({ writes }) => writes[at]!.value) }))

async function updateGroup(
  trx: Knex.Transaction,
  table: WritableTable,
  group: readonly RecordAct[],
): Promise<string[]> {
  const fields = fieldsWritten(table, group)
  const [wanted, bound] = unnested([
    ...keyColumns(table, keysOf(group)),
    ...expectedColumns(group),
    ...valueColumns(group),
  ])
  const sets = fields.map((field, at) => `${id(field.column)} = w.v${at}::${field.castType}`).join(', ')
  const rows = await plainQuery<{ wanted: string }>(
    trx,
    `update ${name(table)} t set ${sets} from ${wanted} where ${keyMatch(table)}${guards(fields)} returning w.wanted`,
    bound,
  )
  return rows.map((row) => row.wanted)
}

/** Under the keys that they had. What is not among the values gets what the source gives a new row. */
async function insertGroup(
  trx: Knex.Transaction,
  table: WritableTable,
  group: readonly RecordAct[],
): Promise<string[]> {
  const inKey = new Set(table.key.map(({ column }) => column))
  const fields = fieldsWritten(table, group)
  const columns = [
    ...table.key.map(({ column, castType }, at) => ({ column, value: `w.k${at}::${castType}` })),
    ...fields.flatMap(({ column, castType }, at) =>
      inKey.has(column) ? [] : [{ column, value: `w.v${at}::${castType}` }],
    ),
  ]
  const [wanted, bound] = unnested([...keyColumns(table, keysOf(group)), ...valueColumns(group)])
  await plainQuery(
    trx,
    `insert into ${name(table)} (${columns.map(({ column }) => id(column)).join(', ')}) overriding system value
     select ${columns.map(({ value }) => value).join(', ')} from ${wanted}`,
    bound,
  )
  const keys = keysOf(group)
  const there = await readRows(trx, table, [], keys)
  if (there.size < keys.length)
    throw new ActRefused(`the source did not take ${counted(keys.length - there.size, 'record')} under the key it had`)
  return keys
}

async function deleteGroup(
  trx: Knex.Transaction,
  table: WritableTable,
  group: readonly RecordAct[],
): Promise<string[]> {
  const [wanted, bound] = unnested([...keyColumns(table, keysOf(group)), ...expectedColumns(group)])
  const rows = await plainQuery<{ wanted: string }>(
    trx,
    `delete from ${name(table)} t using ${wanted} where ${keyMatch(table)}${guards(fieldsWritten(table, group))} returning w.wanted`,
    bound,
  )
  return rows.map((row) => row.wanted)
}

/** Nothing goes along unasked, and nothing loses what it refers to. */
async function demandNoneDepends(
  trx: Knex.Transaction,
  table: WritableTable,
  acts: readonly RecordAct[],
): Promise<void> {
  const [wanted, bound] = unnested(keyColumns(table, keysOf(acts)))
  for (const { schema, table: other, columns, toColumns } of table.referredBy) {
    const match = columns.map((column, at) => `r.${id(column)} = t.${id(toColumns[at]!)}`).join(' and ')
    const isSelf = schema === table.schema && other === table.table
    // A row that refers to itself goes with itself.
    const itself = isSelf
      ? ` and not (${table.key.map(({ column }) => `r.${id(column)} = t.${id(column)}`).join(' and ')})`
      : ''
    const [row] = await plainQuery<{ count: string }>(
      trx,
      `select count(*) from ${wanted} join ${name(table)} t on ${keyMatch(table)} join ${id(schema)}.${id(other)} r on ${match}${itself}`,
      bound,
    )
    const count = Number(row!.count)
    if (count > 0)
      throw new ActRefused(
        `${counted(count, 'row')} of ${schema}.${other} ${count === 1 ? 'refers' : 'refer'} to ${acts.length === 1 ? 'it' : 'them'} and would go too, or lose what ${count === 1 ? 'it refers' : 'they refer'} to`,
      )
  }
}
