import { counted, listed } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

interface PastNames {
  name: string
  plural: string
  fields: string[]
}

/** @throws Problem where there is no such type, or one of the fields is another's */
export async function namesOf(db: Database, typeId: number, fieldIds: readonly number[]): Promise<PastNames> {
  const type = await db('spoor.record_type')
    .where({ id: typeId })
    .first<{ name: string; plural: string } | undefined>('name', 'plural')
  const fields = await db('spoor.field')
    .where({ type_id: typeId })
    .whereIn('id', [...fieldIds])
    .orderBy('attribute_number')
    .pluck<string[]>('name')
  if (!type || fields.length < new Set(fieldIds).size)
    throw new Problem('not-found', 'There is no such record type with those fields. Nothing was drafted.')
  return { ...type, fields }
}

const fieldsNamed = 4

/** “Weekly rent of all tenancies as it was at …”; records stay a number, since a label may name somebody. */
export function wordsOfPast(
  { name, plural, fields }: PastNames,
  at: string,
  { records, whole }: { records: number | null; whole: boolean },
): string {
  const of = records === null ? `all ${plural}` : counted(records, name, plural)
  const columns =
    fields.length > fieldsNamed ? counted(fields.length, 'field') : listed(fields.map((field) => field.toLowerCase()))
  const what = whole ? `${of}, those made or deleted since among them` : `${columns} of ${of}`
  return `Back to ${at.slice(0, 16).replace('T', ' ')} UTC: ${what}.`
}
