import { fieldsOfGuard, guardTrouble, type Guard } from '@spoor/core'
import type { Knex } from 'knex'
import { Problem } from '../errors.ts'

/** A number for a guard that is to be staged. @throws Problem when there is no such record type */
export async function newGuard(db: Knex, typeId: number, personId: number): Promise<number> {
  const type = await db('spoor.record_type').where({ id: typeId }).first<{ source_id: number } | undefined>('source_id')
  if (!type) throw new Problem('not-found', 'There is no such record type.')
  const [row] = await db('spoor.guard')
    .insert({ source_id: type.source_id, type_id: typeId, made_by: personId })
    .returning<{ id: number }[]>('id')
  return row!.id
}

/** Of which record type each guard of a source is, by its number. */
export async function guardTypes(db: Knex, sourceId: number): Promise<Map<number, number>> {
  const rows = await db('spoor.guard')
    .where({ source_id: sourceId })
    .select<{ id: number; type_id: number }[]>('id', 'type_id')
  return new Map(rows.map((guard) => [guard.id, guard.type_id]))
}

/** What guards may ask of: fields, and whose lines the records of a type are. */
export interface GuardGround {
  fields: ReadonlyMap<number, { typeId: number; baseType: string; present: boolean }>
  parents: ReadonlyMap<number, number | null>
}

/** @param sourceId of one source; of all when there is none */
export async function guardGround(db: Knex, sourceId?: number): Promise<GuardGround> {
  const rows = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .modify((query) => sourceId !== undefined && void query.where('t.source_id', sourceId))
    .select<{ id: number; type_id: number; base_type: string; present: boolean; parent_type_id: number | null }[]>(
      'f.id',
      'f.type_id',
      'f.base_type',
      't.parent_type_id',
      db.raw('f.present and t.present as present'),
    )
  return {
    fields: new Map(
      rows.map((row) => [row.id, { typeId: row.type_id, baseType: row.base_type, present: row.present }]),
    ),
    parents: new Map(rows.map((row) => [row.type_id, row.parent_type_id])),
  }
}

/** Why a guard of a record type cannot be asked as the source is, after its name: "names nobody"; null where it can. */
export function whyNotAsked(
  { fields, parents }: GuardGround,
  typeId: number,
  guard: Guard,
  nameOf: (fieldId: number) => string,
): string | null {
  for (const fieldId of fieldsOfGuard(guard)) {
    const field = fields.get(fieldId)
    const isOf = field?.typeId === typeId || (fieldId !== guard.fieldId && field?.typeId === parents.get(typeId))
    if (!field || !isOf)
      return `asks of ${nameOf(fieldId)}, which is neither a field of its records nor of whose lines they are`
    if (!field.present) return `asks of ${nameOf(fieldId)}, which is not in the source any more`
  }
  return guardTrouble(guard, (fieldId) => fields.get(fieldId)!.baseType, nameOf)
}
