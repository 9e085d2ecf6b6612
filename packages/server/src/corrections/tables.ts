import type { Reference } from '@spoor/core'
import type { Knex } from 'knex'
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
      referredBy: discovered.flatMap((other) =>
        other.foreignKeys
          .filter(({ toRelationId }) => toRelationId === table.relationId)
          .map(({ columns, toColumns }) => ({ schema: other.schema, table: other.table, columns, toColumns })),
      ),
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
  return { column: name, castType, baseType, boolean: baseType === 'bool', generated }
}

/** How records of the types of a source refer to each other by their keys, as its foreign keys have it. */
export async function referencesIn(
  db: Knex,
  discovered: readonly DiscoveredTable[],
  sourceId: number,
): Promise<ReadonlyMap<number, readonly Reference[]>> {
  const types = await db('spoor.record_type')
    .where({ source_id: sourceId })
    .select<{ id: number; relation_id: string }[]>('id', 'relation_id')
  const fields = await db('spoor.field')
    .whereIn(
      'type_id',
      types.map(({ id }) => id),
    )
    .select<{ id: number; type_id: number; attribute_number: number }[]>('id', 'type_id', 'attribute_number')
  const fieldAt = new Map(fields.map(({ id, type_id, attribute_number }) => [`${type_id}/${attribute_number}`, id]))
  const tableOf = new Map(discovered.map((table) => [String(table.relationId), table]))
  const typeOf = new Map(types.map(({ id, relation_id }) => [relation_id, id]))
  return new Map(
    types.map(({ id, relation_id }) => {
      const table = tableOf.get(relation_id)
      const references = (table?.foreignKeys ?? []).flatMap(({ columns, toRelationId, toColumns }): Reference[] => {
        const [to, toTypeId] = [tableOf.get(String(toRelationId)), typeOf.get(String(toRelationId))]
        if (!table || !to || toTypeId === undefined) return []
        const places = to.keyColumns.map((name) => toColumns.indexOf(name))
        // What refers to something else than the key is not followed; the source has its say about that.
        if (places.length !== toColumns.length || places.includes(-1)) return []
        const held = places.map((place) => table.columns.find(({ name }) => name === columns[place])!)
        return [
          {
            toTypeId,
            optional: held.every(({ required }) => !required),
            parts: held.map(({ name, attributeNumber }) => {
              const keyAt = table.keyColumns.indexOf(name)
              return { fieldId: fieldAt.get(`${id}/${attributeNumber}`) ?? null, keyAt: keyAt < 0 ? null : keyAt }
            }),
          },
        ]
      })
      return [id, references] as const
    }),
  )
}
