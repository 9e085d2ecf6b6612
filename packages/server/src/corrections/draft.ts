import { itemPlace, itemsOfChanges, type RevertItem } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

export interface PickedChange {
  saveId: string
  /** Absent means every changed field of the save. */
  fieldId?: number | undefined
}

interface ChangeRow {
  save_id: string
  source_id: number
  type_id: number
  record_key: string
  field_id: number
  label: string
  action: string
  before: string | null
  after: string | null
}

/** Writes a correction down that sets the picked changes back. @returns its number. */
export async function draftCorrection(
  db: Database,
  picked: readonly PickedChange[],
  personId: number,
): Promise<number> {
  const rows = await pickedRows(db, picked)
  if (rows.length === 0)
    throw new Problem(
      'nothing-to-revert',
      'None of what was picked is a changed value that can be set back. Nothing was drafted; pick changes of existing records.',
    )
  const sources = new Set(rows.map((row) => row.source_id))
  if (sources.size > 1)
    throw new Problem(
      'nothing-to-revert',
      'The picked changes come from several sources. Nothing was drafted; make one correction for each source.',
    )
  const keys = await presentKeys(db, rows)
  const changes = rows.map((row, at) => ({
    typeId: row.type_id,
    key: keys[at]!,
    fieldId: row.field_id,
    found: row.after,
    target: row.before,
  }))
  const items = itemsOfChanges(changes)
  const rowsAt = new Map<string, ChangeRow[]>()
  for (const [at, row] of rows.entries()) {
    const place = itemPlace(changes[at]!)
    const there = rowsAt.get(place)
    if (there) there.push(row)
    else rowsAt.set(place, [row])
  }
  return await db.transaction(async (trx) => {
    const [correction] = await trx('spoor.correction')
      .insert({ source_id: rows[0]!.source_id, state: 'draft', drafted_by: personId })
      .returning<{ id: number }[]>('id')
    const correctionId = correction!.id
    const inserted = (await trx
      .batchInsert<object>(
        'spoor.correction_item',
        items.map((item) => itemRow(correctionId, item, rowsAt.get(itemPlace(item))!.at(-1)!)),
        1000,
      )
      .returning('id' as never)) as { id: number }[]
    const links = items.flatMap((item, at) =>
      rowsAt.get(itemPlace(item))!.map((row) => ({
        correction_id: correctionId,
        save_id: row.save_id,
        field_id: row.field_id,
        item_id: inserted[at]!.id,
      })),
    )
    await trx.batchInsert('spoor.correction_change', links, 1000)
    return correctionId
  })
}

function itemRow(correctionId: number, item: RevertItem, last: ChangeRow) {
  return {
    correction_id: correctionId,
    type_id: item.typeId,
    record_key: item.key,
    label: last.label,
    field_id: item.fieldId,
    save_id: last.save_id,
    found: item.found,
    target: item.target,
    state: 'clear',
  }
}

/** The key that each row's record has now: the one it had then, or the last that a later save gave it. */
async function presentKeys(db: Database, rows: readonly ChangeRow[]): Promise<string[]> {
  const { rows: moved } = await db.raw<{ rows: { place: number; record_key: string }[] }>(
    `with recursive trail as (
       select w.place, 0 as steps, w.type_id, w.record_key, w.save_id
         from unnest(?::int[], ?::text[], ?::bigint[]) with ordinality as w(type_id, record_key, save_id, place)
       union all
       select t.place, t.steps + 1, t.type_id, next.record_key, next.id
         from trail t cross join lateral (
           select s.record_key, s.id from ledger.save s
            where s.type_id = t.type_id and s.key_before = t.record_key and s.id > t.save_id
              -- What was made anew under the key is another record.
              and not exists (select from ledger.save d where d.type_id = t.type_id and d.record_key = t.record_key
                               and d.action = 'delete' and d.id > t.save_id and d.id < s.id)
            order by s.id limit 1) as next)
     select distinct on (place) place::int, record_key from trail order by place, steps desc`,
    [rows.map((row) => row.type_id), rows.map((row) => row.record_key), rows.map((row) => row.save_id)].map(boundArray),
  )
  const keyAt = new Map(moved.map((row) => [row.place, row.record_key]))
  return rows.map((_, at) => keyAt.get(at + 1)!)
}

async function pickedRows(db: Database, picked: readonly PickedChange[]): Promise<ChangeRow[]> {
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select distinct c.save_id, c.captured_at, s.source_id, c.type_id, c.record_key, c.field_id, s.label, s.action, c.before, c.after
       from unnest(?::bigint[], ?::int[]) as picked(save_id, field_id)
       join ledger.save s on s.id = picked.save_id
       join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at and (picked.field_id is null or c.field_id = picked.field_id)
      where s.action = 'change' and not c.erased
      order by c.captured_at, c.save_id, c.field_id`,
    [boundArray(picked.map((one) => one.saveId)), boundArray(picked.map((one) => one.fieldId ?? null))],
  )
  return rows
}
