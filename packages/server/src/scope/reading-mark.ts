import type { Knex } from 'knex'
import { lastSave } from '../ledger/head.ts'

/** Up to where the ledger was read for a field: to a save, by what was tracked when, and how far into each taking. */
export interface ReadingMark {
  read_save: string
  coverage: string
  places: Record<string, string>
}

/** Tables of what is kept for a field, each with one of {@link ReadingMark}s. */
export type Kept = 'spoor.life' | 'spoor.held'

/** Of more records all are read anew. */
const mostTouched = 30_000

/** Up to where the ledger could be read now. */
export async function markNow(trx: Knex.Transaction, typeId: number): Promise<ReadingMark> {
  return {
    read_save: await lastSave(trx),
    coverage: await coverageMark(trx, typeId),
    places: await placesOf(trx, typeId),
  }
}

/** Up to where it was read; undefined before the first time. */
export async function markOf(trx: Knex.Transaction, kept: Kept, fieldId: number): Promise<ReadingMark | undefined> {
  return await trx(`${kept}_read`)
    .where({ field_id: fieldId })
    .first<ReadingMark | undefined>('read_save', 'coverage', 'places')
}

/** The same, held until the transaction ends, so that nobody else reads on. */
export async function holdMark(trx: Knex.Transaction, kept: Kept, fieldId: number): Promise<ReadingMark> {
  await trx(`${kept}_read`)
    .insert({ field_id: fieldId, ...unread, places: '{}' })
    .onConflict('field_id')
    .ignore()
  return (await trx(`${kept}_read`)
    .where({ field_id: fieldId })
    .forUpdate()
    .first<ReadingMark>('read_save', 'coverage', 'places'))!
}

export async function setMark(trx: Knex.Transaction, kept: Kept, fieldId: number, mark: ReadingMark): Promise<void> {
  await trx(`${kept}_read`)
    .where({ field_id: fieldId })
    .update({ ...mark, places: JSON.stringify(mark.places) })
}

/** What stands for nothing read yet. */
const unread = { read_save: '0', coverage: 'none' }

/** Differs when any field of the type was tracked at another time than before. */
async function coverageMark(trx: Knex.Transaction, typeId: number): Promise<string> {
  const { rows } = await trx.raw<{ rows: { mark: string }[] }>(
    `select coalesce(md5(string_agg(concat_ws(' ', c.field_id, c.from_at, c.to_at), ',' order by c.id)), '') as mark
       from spoor.coverage c join spoor.field f on f.id = c.field_id where f.type_id = ?`,
    [typeId],
  )
  return rows[0]!.mark
}

/** How many records each taking of a type has taken in. */
async function placesOf(trx: Knex.Transaction, typeId: number): Promise<Record<string, string>> {
  const { rows } = await trx.raw<{ rows: { id: number; place: string }[] }>(
    `select t.id, (select coalesce(max(f.place), -1) from ledger.found f where f.taking_id = t.id) as place
       from spoor.taking t where t.type_id = ?`,
    [typeId],
  )
  return Object.fromEntries(rows.map(({ id, place }) => [id, place]))
}

/**
 * Keys whose records were touched since something was read, with all that these records ever had; null where all are to be
 * read: for the first time, because something else was tracked, or because they are too many.
 */
export async function touchedSince(
  trx: Knex.Transaction,
  typeId: number,
  fieldId: number,
  read: ReadingMark | undefined,
  now: ReadingMark,
): Promise<string[] | null> {
  if (read?.coverage !== now.coverage) return null
  const { rows } = await trx.raw<{ rows: { key: string }[] }>(
    `with recursive touched as (
       select s.record_key as key from ledger.save s
        where s.id > ? and s.id <= ? and s.type_id = ?
          and (s.action <> 'change' or s.key_before is not null
            or exists (select from ledger.change c where c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = ?))
       union
       select f.record_key from spoor.taking t join ledger.found f on f.taking_id = t.id
        where t.type_id = ? and f.place > coalesce((?::jsonb ->> t.id::text)::bigint, -1)
       union
       select o.key from touched t cross join lateral (
         select s.key_before as key from ledger.save s where s.type_id = ? and s.record_key = t.key and s.key_before is not null
         union all select s.record_key from ledger.save s where s.type_id = ? and s.key_before = t.key) as o)
     select key from touched limit ?`,
    [
      ...[read.read_save, now.read_save, typeId, fieldId],
      ...[typeId, JSON.stringify(read.places)],
      ...[typeId, typeId, mostTouched + 1],
    ],
  )
  return rows.length > mostTouched ? null : rows.map(({ key }) => key)
}

/**
 * Forgets what was kept of a field, since some of it is being erased; it is read again when somebody asks. Works as the role
 * that erases, and keeps others from reading until its transaction ends.
 */
export async function forgetKept(trx: Knex.Transaction, fieldId: number): Promise<void> {
  for (const kept of ['spoor.life', 'spoor.held'] as const) {
    await holdMark(trx, kept, fieldId)
    await trx(`${kept}_read`).where({ field_id: fieldId }).update({ coverage: unread.coverage })
    await trx(kept).where({ field_id: fieldId }).delete()
  }
}
