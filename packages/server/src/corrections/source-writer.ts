import { groupBy, itemPlace, type CurrentValue, type GuardedWrite, type RevertItem } from '@spoor/core'
import type { Knex } from 'knex'
import { plainQuery } from '../database/plain.ts'
import { quoteIdentifier as id } from '../database/identifier.ts'

export interface WritableField {
  fieldId: number
  column: string
  /** As it can be written in a cast whatever the search path is. */
  castType: string
  boolean: boolean
  generated: boolean
}

/** A table of the source as a correction needs it. */
export interface WritableTable {
  typeId: number
  schema: string
  table: string
  key: readonly Pick<WritableField, 'column' | 'castType' | 'boolean'>[]
  fields: ReadonlyMap<number, WritableField>
}

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

const keyParts = (key: string) => JSON.parse(key) as string[]

/** What some rows hold now, by key, as the capture would write it. Rows that are not there are left out. */
export async function readRows(
  trx: Knex.Transaction,
  table: WritableTable,
  fields: readonly WritableField[],
  written: readonly string[],
  { lock = false } = {},
): Promise<Map<string, Map<number, string | null>>> {
  const keys = written.map(keyParts)
  const rows = await reading(trx, () =>
    plainQuery<{ wanted: string; held: (string | null)[] }>(
      trx,
      `select w.wanted, array[${fields.map((field) => text(`t.${id(field.column)}`, field)).join(', ')}]::text[] as held
         from ${keyTable(table, 'wanted')} join ${name(table)} t on ${keyMatch(table)}${lock ? ' for update of t' : ''}`,
      [...table.key.map((_, at) => keys.map((key) => key[at])), keys.map((key) => JSON.stringify(key))],
    ),
  )
  return new Map(
    rows.map(({ wanted, held }) => [wanted, new Map(fields.map((field, at) => [field.fieldId, held[at] ?? null]))]),
  )
}

/** Reads what the source holds now for some items and locks those rows until the transaction ends. */
export async function lockCurrent(
  trx: Knex.Transaction,
  tables: ReadonlyMap<number, WritableTable>,
  items: readonly RevertItem[],
): Promise<(item: RevertItem) => CurrentValue> {
  const found = new Map<string, Map<number, string | null>>()
  for (const [typeId, ofType] of groupBy(items, (item) => item.typeId)) {
    const table = tables.get(typeId)
    if (!table) continue
    const fields = [...new Set(ofType.map((item) => item.fieldId))].flatMap(
      (fieldId) => table.fields.get(fieldId) ?? [],
    )
    const keys = [...new Set(ofType.map((item) => item.key))]
    for (const [key, held] of await readRows(trx, table, fields, keys, { lock: true }))
      found.set(`${typeId}/${key}`, held)
  }
  return (item) => {
    const field = tables.get(item.typeId)?.fields.get(item.fieldId)
    if (!field) return { state: 'blocked', why: 'field-gone' }
    const held = found.get(`${item.typeId}/${item.key}`)
    if (!held) return { state: 'blocked', why: 'record-gone' }
    return { state: 'value', value: held.get(item.fieldId) ?? null }
  }
}

/** `unnest` of the wanted keys, one text array a key column, and one more column with the key as written. */
function keyTable(table: WritableTable, written: string): string {
  const arrays = table.key.map((_, at) => `$${at + 1}::text[]`)
  return `unnest(${[...arrays, `$${table.key.length + 1}::text[]`].join(', ')}) as w(${[...table.key.map((_, at) => `k${at}`), written].join(', ')})`
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

/** Writes of one record that go together, so that a rule over several columns sees them at once. */
interface RecordWrites {
  key: string
  writes: GuardedWrite[]
}

/**
 * Writes guarded values, each only where the expected value still stands; one statement a table and set of fields.
 * @returns the places that were written; a record missing there held something else by then.
 */
export async function writeGuarded(
  trx: Knex.Transaction,
  tables: ReadonlyMap<number, WritableTable>,
  writes: readonly GuardedWrite[],
): Promise<Set<string>> {
  const written = new Set<string>()
  for (const [typeId, ofType] of groupBy(writes, (write) => write.typeId)) {
    const table = tables.get(typeId)!
    const records: RecordWrites[] = [...groupBy(ofType, (write) => write.key)].map(([key, of]) => ({
      key,
      writes: of.toSorted((a, b) => a.fieldId - b.fieldId),
    }))
    for (const group of groupBy(records, (record) => record.writes.map((write) => write.fieldId).join()).values()) {
      for (const key of await updateGroup(trx, table, group))
        for (const write of group[0]!.writes) written.add(itemPlace({ typeId, key, fieldId: write.fieldId }))
    }
  }
  return written
}

async function updateGroup(
  trx: Knex.Transaction,
  table: WritableTable,
  group: readonly RecordWrites[],
): Promise<string[]> {
  const fields = group[0]!.writes.map((write) => table.fields.get(write.fieldId)!)
  const keys = group.map((record) => keyParts(record.key))
  const columns: { name: string; values: (string | null | undefined)[] }[] = [
    ...table.key.map((_, at) => ({ name: `k${at}`, values: keys.map((key) => key[at]) })),
    { name: 'wanted', values: group.map((record) => record.key) },
    ...fields.flatMap((_, at) => [
      { name: `e${at}`, values: group.map((record) => record.writes[at]!.expected) },
      { name: `v${at}`, values: group.map((record) => record.writes[at]!.value) },
    ]),
  ]
  const rows = await plainQuery<{ wanted: string }>(
    trx,
    `update ${name(table)} t set ${fields.map((field, at) => `${id(field.column)} = w.v${at}::${field.castType}`).join(', ')}
       from unnest(${columns.map((_, at) => `$${at + 1}::text[]`).join(', ')}) as w(${columns.map((column) => column.name).join(', ')})
      where ${keyMatch(table)}
        and ${fields.map((field, at) => `(${text(`t.${id(field.column)}`, field)}) collate pg_catalog."C" is not distinct from ${text(`w.e${at}::${field.castType}`, field)}`).join(' and ')}
      returning w.wanted`,
    columns.map((column) => column.values),
  )
  return rows.map((row) => row.wanted)
}
