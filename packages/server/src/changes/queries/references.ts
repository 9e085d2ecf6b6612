import type { Change, SaveDetail } from '@spoor/contract'
import { boundArray, type Database } from '../../database/knex.ts'
import type { SaveRow } from './saves.ts'

/** What the records are called that a save's reference fields point to, where the ledger has met them. */
export async function referencesOf(
  db: Database,
  save: SaveRow,
  changes: readonly Change[],
): Promise<SaveDetail['references']> {
  const wanted = changes.flatMap(({ fieldId, before, after }) =>
    [before, after].flatMap((value) => (value === null ? [] : [{ fieldId, value }])),
  )
  if (wanted.length === 0) return []
  const { rows } = await db.raw<{ rows: SaveDetail['references'] }>(
    `select distinct w.field_id as "fieldId", w.value, r.label
       from unnest(?::int[], ?::text[]) as w(field_id, value)
       join spoor.field f on f.id = w.field_id and f.type_id = ?
       join spoor.record r on r.type_id = f.refers_to and r.record_key = replace(json_build_array(w.value)::text, ', ', ',')
      where r.label <> w.value`,
    [boundArray(wanted.map((one) => one.fieldId)), boundArray(wanted.map((one) => one.value)), save.type_id],
  )
  return rows
}
