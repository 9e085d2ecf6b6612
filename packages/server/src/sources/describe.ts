import { patternTrouble } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { maskedFields } from '../ledger/masked.ts'
import { Problem } from '../errors.ts'

export interface TypeDescription {
  name: string
  plural: string
  area: string
  labelFields: readonly number[]
  parentTypeId: number | null
  /** The field whose day says when a record takes effect. */
  effectiveFieldId: number | null
  /** The address of a record's own page. */
  pagePattern?: string | null
}

interface TypeRow {
  id: number
  source_id: number
  key_columns: string[]
  foreign_keys: { columns: string[]; toTypeId: number; required: boolean }[]
}

/**
 * What an administrator says of a record type. The label and the parent are captured with each save from the next
 * look at the source on; what was captured before keeps its own. @returns the type's source.
 */
export async function describeType(db: Database, typeId: number, said: TypeDescription): Promise<number> {
  return await db.transaction(async (trx) => {
    const type = await trx('spoor.record_type')
      .where({ id: typeId })
      .first<TypeRow | undefined>('id', 'source_id', 'foreign_keys', 'key_columns')
    if (!type) throw new Problem('not-found', 'There is no such record type. Nothing was changed.')
    const parent = said.parentTypeId === null ? null : parentOf(type, said.parentTypeId)
    if (said.parentTypeId !== null) await demandNoCircle(trx, typeId, said.parentTypeId)
    const trouble = said.pagePattern ? patternTrouble(said.pagePattern, type.key_columns.length) : null
    if (trouble !== null)
      throw new Problem('rule-broken', `That is no address of its records’ pages. ${trouble} Nothing was changed.`)
    if (said.effectiveFieldId !== null) await demandDay(trx, typeId, said.effectiveFieldId)
    await trx('spoor.record_type')
      .where({ id: typeId })
      .update({
        name: said.name,
        plural: said.plural,
        area: said.area,
        label_columns: JSON.stringify(await columnNames(trx, typeId, said.labelFields)),
        parent_type_id: said.parentTypeId,
        parent_columns: parent && JSON.stringify(parent.columns),
        effective_field_id: said.effectiveFieldId,
        page_pattern: said.pagePattern ?? null,
        described: JSON.stringify(['name', 'plural', 'area', 'label', 'parent', 'effective']),
      })
    return type.source_id
  })
}

/** Types whose text begins with a day. */
export const dayTypes: readonly string[] = ['date', 'timestamp', 'timestamptz']

async function demandDay(trx: Knex.Transaction, typeId: number, fieldId: number): Promise<void> {
  const field = await trx('spoor.field')
    .where({ id: fieldId, type_id: typeId })
    .first<{ base_type: string } | undefined>('base_type')
  if (!field || !dayTypes.includes(field.base_type))
    throw new Problem('rule-broken', 'The day of effect has to be a date of the record itself. Nothing was changed.')
  if ((await maskedFields(trx)).has(fieldId))
    throw new Problem(
      'rule-broken',
      'A masked field cannot be the day of effect, since anybody can ask for it by that day. Nothing was changed.',
    )
}

function parentOf({ foreign_keys }: TypeRow, parentTypeId: number): TypeRow['foreign_keys'][number] {
  const reference = foreign_keys.find((key) => key.toTypeId === parentTypeId && key.required)
  if (!reference)
    throw new Problem(
      'rule-broken',
      'A line needs a reference to its parent that is never empty, and there is none to that record type. Nothing was changed.',
    )
  return reference
}

async function demandNoCircle(trx: Knex.Transaction, typeId: number, parentTypeId: number): Promise<void> {
  const { rows } = await trx.raw<{ rows: { id: number }[] }>(
    `with recursive up(id) as (select ?::int union select t.parent_type_id from up join spoor.record_type t on t.id = up.id where t.parent_type_id is not null)
     select id from up where id = ?`,
    [parentTypeId, typeId],
  )
  if (rows.length > 0)
    throw new Problem('rule-broken', 'A record type cannot be a line of its own lines. Nothing was changed.')
}

async function columnNames(trx: Knex.Transaction, typeId: number, fieldIds: readonly number[]): Promise<string[]> {
  const masked = await maskedFields(trx)
  if (fieldIds.some((id) => masked.has(id)))
    throw new Problem(
      'rule-broken',
      'A masked field cannot name a record, since names are shown to everybody. Nothing was changed.',
    )
  const rows = await trx('spoor.field')
    .where({ type_id: typeId, present: true })
    .whereIn('id', [...fieldIds])
    .select<{ id: number; column_name: string }[]>('id', 'column_name')
  const names = fieldIds.flatMap((id) => rows.find((row) => row.id === id)?.column_name ?? [])
  if (names.length < fieldIds.length)
    throw new Problem(
      'field-untrackable',
      'A field that is to name a record is not one of its own. Nothing was changed.',
    )
  return names
}

/** What an administrator says of a field. @returns the field's source. */
export async function describeField(
  db: Database,
  fieldId: number,
  { name, refersTo }: { name: string; refersTo: number | null },
): Promise<number> {
  const field = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('f.id', fieldId)
    .first<{ source_id: number } | undefined>('t.source_id')
  if (!field) throw new Problem('not-found', 'There is no such field. Nothing was changed.')
  if (refersTo !== null) {
    const to = await db('spoor.record_type')
      .where({ id: refersTo, source_id: field.source_id })
      .first<{ key_columns: string[] } | undefined>('key_columns')
    if (to?.key_columns.length !== 1)
      throw new Problem(
        'rule-broken',
        'A field refers to a record type of the same source whose key is one column. Nothing was changed.',
      )
  }
  await db('spoor.field')
    .where({ id: fieldId })
    .update({ name, refers_to: refersTo, described: JSON.stringify(['name', 'refersTo']) })
  return field.source_id
}
