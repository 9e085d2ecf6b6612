import { groupBy, spoken } from '@spoor/core'
import type { Knex } from 'knex'
import { dayTypes } from './describe.ts'
import type { DiscoveredTable } from './discover.ts'
import { keyReferences, plural, proposeArea, proposeLabel, proposeParent, typeName } from './names.ts'

interface TypeRow {
  id: number
  relation_id: string
  schema_name: string
  table_name: string
  label_columns: string[]
  parent_type_id: number | null
  parent_columns: string[] | null
  foreign_keys: StoredReference[]
  effective_field_id: number | null
  described: string[]
}

/** A reference that holds another type's whole key, as it is kept with its own type. */
interface StoredReference {
  columns: string[]
  toTypeId: number
  required: boolean
}

interface FieldRow {
  id: number
  type_id: number
  attribute_number: number
  column_name: string
  base_type: string
  refers_to: number | null
  described: string[]
}

/**
 * Writes down what a source has: what is new with proposals for its name, place, label, parent and references; what
 * was renamed under its old number. Only what differs is written. What a person described is left as it is.
 */
export async function writeRegister(
  trx: Knex.Transaction,
  sourceId: number,
  tables: readonly DiscoveredTable[],
): Promise<void> {
  const known = await trx('spoor.record_type').where({ source_id: sourceId }).select<TypeRow[]>('*')
  const fields = await trx('spoor.field')
    .whereIn(
      'type_id',
      known.map((type) => type.id),
    )
    .select<FieldRow[]>('id', 'type_id', 'attribute_number', 'column_name', 'refers_to', 'described')
  const fieldsOf = groupBy(fields, (field) => field.type_id)
  const typeOf = matchTypes(known, tables)
  const byRelation = new Map(tables.map((table) => [table.relationId, table]))
  for (const table of tables) {
    const type = typeOf.get(table.relationId)
    if (type) await updateType(trx, type, table, fieldsOf.get(type.id) ?? [])
    else typeOf.set(table.relationId, await insertType(trx, sourceId, table, byRelation))
  }
  const present = tables.map((table) => typeOf.get(table.relationId)!.id)
  await trx('spoor.record_type')
    .where({ source_id: sourceId, present: true })
    .whereNotIn('id', present)
    .update({ present: false })
  await writeFields(trx, tables, typeOf, fieldsOf)
  await propose(trx, byRelation, typeOf)
}

/** The types that tables are known as: by their number, or made anew under the old name (a restored database). */
function matchTypes(known: readonly TypeRow[], tables: readonly DiscoveredTable[]): Map<number, TypeRow> {
  const relations = new Set(tables.map((table) => String(table.relationId)))
  const byRelation = new Map(known.map((type) => [type.relation_id, type]))
  const gone = new Map(
    known
      .filter((type) => !relations.has(type.relation_id))
      .map((type) => [`${type.schema_name}\n${type.table_name}`, type]),
  )
  return new Map(
    tables.flatMap((table) => {
      const type = byRelation.get(String(table.relationId)) ?? gone.get(`${table.schema}\n${table.table}`)
      return type ? [[table.relationId, type] as const] : []
    }),
  )
}

const describedBy = (table: DiscoveredTable) => ({
  relation_id: table.relationId,
  schema_name: table.schema,
  table_name: table.table,
  comment: table.comment,
  key_columns: JSON.stringify(table.keyColumns),
  obstacle: table.obstacle && JSON.stringify(table.obstacle),
  present: true,
})

async function insertType(
  trx: Knex.Transaction,
  sourceId: number,
  table: DiscoveredTable,
  all: ReadonlyMap<number, DiscoveredTable>,
): Promise<TypeRow> {
  const name = typeName(table.table)
  const [row] = await trx('spoor.record_type')
    .insert({
      ...describedBy(table),
      source_id: sourceId,
      name,
      plural: plural(name),
      area: proposeArea(table, [...all.values()]),
      label_columns: JSON.stringify(proposeLabel(table, all)),
    })
    .returning<TypeRow[]>('*')
  return row!
}

async function updateType(
  trx: Knex.Transaction,
  type: TypeRow,
  table: DiscoveredTable,
  fields: readonly FieldRow[],
): Promise<void> {
  const columnAt = new Map(table.columns.map((column) => [column.attributeNumber, column.name]))
  const renamed = new Map(
    fields.flatMap((field) => {
      const now = columnAt.get(field.attribute_number)
      return now !== undefined && now !== field.column_name ? [[field.column_name, now] as const] : []
    }),
  )
  const follow = (names: readonly string[] | null) =>
    names && JSON.stringify(names.map((name) => renamed.get(name) ?? name))
  const now = {
    ...describedBy(table),
    label_columns: follow(type.label_columns),
    parent_columns: follow(type.parent_columns),
  }
  await trx('spoor.record_type')
    .where({ id: type.id })
    .whereRaw(
      `(relation_id, schema_name, table_name, comment, key_columns, obstacle, present, label_columns, parent_columns)
       is distinct from (?::bigint, ?::text, ?::text, ?::text, ?::jsonb, ?::jsonb, true, ?::jsonb, ?::jsonb)`,
      [
        now.relation_id,
        now.schema_name,
        now.table_name,
        now.comment,
        now.key_columns,
        now.obstacle,
        now.label_columns,
        now.parent_columns,
      ],
    )
    .update(now)
}

const fieldsAtOnce = 500

const placeOf = (field: Pick<FieldRow, 'type_id' | 'attribute_number'>) => `${field.type_id} ${field.attribute_number}`

async function writeFields(
  trx: Knex.Transaction,
  tables: readonly DiscoveredTable[],
  typeOf: ReadonlyMap<number, TypeRow>,
  fieldsOf: ReadonlyMap<number, readonly FieldRow[]>,
): Promise<void> {
  const rows = tables.flatMap((table) => {
    const typeId = typeOf.get(table.relationId)!.id
    const described = new Set(
      (fieldsOf.get(typeId) ?? [])
        .filter((field) => field.described.includes('name'))
        .map((field) => field.attribute_number),
    )
    return table.columns.map((column) => ({
      type_id: typeId,
      attribute_number: column.attributeNumber,
      column_name: column.name,
      name: described.has(column.attributeNumber) ? null : spoken(column.name),
      data_type: column.dataType,
      base_type: column.baseType,
      comment: column.comment,
      part_of_key: table.keyColumns.includes(column.name),
      generated: column.generated,
    }))
  })
  // A look finds nothing new nearly always, and then writes nothing. An upsert would take a number of the identity for
  // every field at every look, and those are not without end.
  const known = new Set([...fieldsOf.values()].flat().map(placeOf))
  for (let at = 0; at < rows.length; at += fieldsAtOnce) {
    const some = rows.slice(at, at + fieldsAtOnce)
    const fresh = some.filter((row) => !known.has(placeOf(row)))
    if (fresh.length > 0)
      await trx('spoor.field').insert(
        fresh.map((row) => ({ ...row, name: row.name ?? row.column_name, present: true })),
      )
    await trx.raw(
      `update spoor.field as f
          set column_name = r.column_name, name = coalesce(r.name, f.name), data_type = r.data_type, base_type = r.base_type,
              comment = r.comment, part_of_key = r.part_of_key, generated = r.generated, present = true
         from jsonb_to_recordset(?::jsonb) as r(type_id int, attribute_number int, column_name text, name text, data_type text,
              base_type text, comment text, part_of_key boolean, generated boolean)
        where f.type_id = r.type_id and f.attribute_number = r.attribute_number
          and (f.column_name, f.data_type, f.base_type, f.comment, f.part_of_key, f.generated, f.present)
              is distinct from (r.column_name, r.data_type, r.base_type, r.comment, r.part_of_key, r.generated, true)`,
      [JSON.stringify(some)],
    )
  }
  const present = new Set(rows.map(placeOf))
  const gone = [...fieldsOf.values()].flat().filter((field) => !present.has(placeOf(field)))
  await trx('spoor.field')
    .whereIn(
      'id',
      gone.map((field) => field.id),
    )
    .where({ present: true })
    .update({ present: false })
}

/** Parents and references, once all types have their numbers. A parent that stands is not proposed away. */
async function propose(
  trx: Knex.Transaction,
  byRelation: ReadonlyMap<number, DiscoveredTable>,
  typeOf: ReadonlyMap<number, TypeRow>,
): Promise<void> {
  const fields = await trx('spoor.field')
    .whereIn(
      'type_id',
      [...typeOf.values()].map((type) => type.id),
    )
    .where({ present: true })
    .orderBy(['type_id', 'attribute_number'])
    .select<FieldRow[]>('id', 'type_id', 'column_name', 'base_type', 'refers_to', 'described')
  const fieldAt = new Map(fields.map((field) => [`${field.type_id} ${field.column_name}`, field]))
  for (const [relationId, table] of byRelation) {
    const type = typeOf.get(relationId)!
    const references = keyReferences(table, byRelation)
    const stored = references.map((one) => ({
      columns: one.columns,
      toTypeId: typeOf.get(one.toRelationId)!.id,
      required: one.required,
    }))
    // Looked at every half minute: only what differs is worth asking the database about.
    if (textOf(stored) !== textOf(type.foreign_keys))
      await trx('spoor.record_type')
        .where({ id: type.id })
        .update({ foreign_keys: JSON.stringify(stored) })
    const parent = proposeParent(table, byRelation)
    if (parent && type.parent_type_id === null && !type.described.includes('parent'))
      await trx('spoor.record_type')
        .where({ id: type.id })
        .update({
          parent_type_id: typeOf.get(parent.toRelationId)!.id,
          parent_columns: JSON.stringify(parent.columns),
        })
    const day = proposeDay(fields.filter((field) => field.type_id === type.id))
    if (day && type.effective_field_id === null && !type.described.includes('effective'))
      await trx('spoor.record_type').where({ id: type.id }).update({ effective_field_id: day.id })
    for (const { columns, toTypeId } of stored.filter((one) => one.columns.length === 1)) {
      const field = fieldAt.get(`${type.id} ${columns[0]}`)
      if (field && field.refers_to !== toTypeId && !field.described.includes('refersTo'))
        await trx('spoor.field').where({ id: field.id }).update({ refers_to: toTypeId })
    }
  }
}

/** How columns are called whose day says when what a record states begins to hold, the surest first. */
const effectNames = [
  /^effective(_(on|date|from))?$/,
  /^(valid_from|takes_effect(_on)?)$/,
  /^(starts?|starts?_on|start_date|inspected_on)$/,
]

function proposeDay(fields: readonly FieldRow[]): FieldRow | undefined {
  const days = fields.filter((field) => dayTypes.includes(field.base_type))
  return effectNames.flatMap((name) => days.filter((field) => name.test(field.column_name.toLowerCase())))[0]
}

function textOf(references: readonly StoredReference[]): string {
  return JSON.stringify(references.map(({ columns, toTypeId, required }) => [columns, toTypeId, required]))
}
