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
