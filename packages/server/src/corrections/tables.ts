import type { Database } from '../database/knex.ts'
import type { DiscoveredColumn, DiscoveredTable } from '../sources/discover.ts'
import type { WritableField, WritableTable } from './source-writer.ts'

/** The tables of some record types as the source has them at this moment. */
export async function writableTables(
  db: Database,
  discovered: readonly DiscoveredTable[],
  typeIds: readonly number[],
): Promise<Map<number, WritableTable>> {
  const types = await db('spoor.record_type')
    .whereIn('id', typeIds)
    .select<{ id: number; relation_id: string }[]>('id', 'relation_id')
  const fields = await db('spoor.field')
    .whereIn('type_id', typeIds)
    .select<{ id: number; type_id: number; attribute_number: number }[]>('id', 'type_id', 'attribute_number')
  const tables = new Map<number, WritableTable>()
  for (const type of types) {
    const table = discovered.find((candidate) => String(candidate.relationId) === type.relation_id)
    if (!table) continue
    const columns = new Map(table.columns.map((column) => [column.attributeNumber, column]))
    tables.set(type.id, {
      typeId: type.id,
      schema: table.schema,
      table: table.table,
      key: table.keyColumns.map((name) => writable(table.columns.find((column) => column.name === name)!)),
      fields: new Map(
        fields
          .filter((field) => field.type_id === type.id)
          .flatMap((field) => {
            const column = columns.get(field.attribute_number)
            return column ? [[field.id, { fieldId: field.id, ...writable(column) }] as const] : []
          }),
      ),
    })
  }
  return tables
}

function writable({ name, castType, baseType, generated }: DiscoveredColumn): Omit<WritableField, 'fieldId'> {
  return { column: name, castType, boolean: baseType === 'bool', generated }
}
