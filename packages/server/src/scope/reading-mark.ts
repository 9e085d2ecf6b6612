import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'
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

/** Differs when any field of a type was tracked at another time than before; SQL of a type's number. */
const coverageSql = (typeId: string) =>
  `(select coalesce(md5(string_agg(concat_ws(' ', c.field_id, c.from_at, c.to_at), ',' order by c.id)), '')
      from spoor.coverage c join spoor.field o on o.id = c.field_id where o.type_id = ${typeId})`

async function coverageMark(trx: Knex.Transaction, typeId: number): Promise<string> {
  const { rows } = await trx.raw<{ rows: { mark: string }[] }>(`select ${coverageSql('?')} as mark`, [typeId])
  return rows[0]!.mark
}

/** Saves `s` after a number that touch what a field of a type held: {@link touchedSince} begins with them. */
const touchingSql = (typeId: string, fieldId: string, after: string) =>
  `s.id > ${after} and s.type_id = ${typeId}
     and (s.action <> 'change' or s.key_before is not null
       or exists (select from ledger.change c where c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = ${fieldId}))`

/** Findings `f` of takings `t` that were not read. */
const foundSql = (typeId: string, places: string) =>
  `t.type_id = ${typeId} and f.place > coalesce((${places} ->> t.id::text)::bigint, -1)`

/** Of some fields those of which something came that was not read. */
export async function behind(db: Knex, fieldIds: readonly number[], kept: Kept): Promise<number[]> {
  const { rows } = await db.raw<{ rows: { id: number }[] }>(
    `select d.id from spoor.field d left join ${kept}_read r on r.field_id = d.id
      where d.id = any(?::int[])
        and (r.field_id is null or r.coverage <> ${coverageSql('d.type_id')}
          or exists (select from ledger.save s where ${touchingSql('d.type_id', 'd.id', 'r.read_save')})
          or exists (select from spoor.taking t join ledger.found f on f.taking_id = t.id
                      where ${foundSql('d.type_id', 'r.places')}))`,
    [boundArray(fieldIds)],
  )
  return rows.map(({ id }) => id)
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
        where ${touchingSql('?', '?', '?')} and s.id <= ?
       union
       select f.record_key from spoor.taking t join ledger.found f on f.taking_id = t.id
        where ${foundSql('?', '?::jsonb')}
       union
       select o.key from touched t cross join lateral (
         select s.key_before as key from ledger.save s where s.type_id = ? and s.record_key = t.key and s.key_before is not null
         union all select s.record_key from ledger.save s where s.type_id = ? and s.key_before = t.key) as o)
     select key from touched limit ?`,
    [
      ...[read.read_save, typeId, fieldId, now.read_save],
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
