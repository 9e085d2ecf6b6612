import { overriddenWords } from '@spoor/contract'
import type { Knex } from 'knex'
import { isChosen } from './store.ts'

/** What was to be written and was not. */
export const isUnwritten = `${isChosen} and not i.written and i.why is distinct from '${overriddenWords}'`

/**
 * Drafts anew what a correction left unwritten, to be rehearsed as it is then.
 * @returns the number of the draft; null where nothing was left
 */
export async function draftRest(trx: Knex.Transaction, correctionId: number, personId: number): Promise<number | null> {
  const unwritten = await trx('spoor.correction_item as i')
    .where({ correction_id: correctionId })
    .whereRaw(isUnwritten)
    .first('i.id')
  if (!unwritten) return null
  const { rows } = await trx.raw<{ rows: { id: number }[] }>(
    `insert into spoor.correction (source_id, state, drafted_by, asked, repeats, rest_of)
     select source_id, 'draft', ?, 'what correction ' || id || ' left unwritten', repeats, id from spoor.correction where id = ? returning id`,
    [personId, correctionId],
  )
  const { id } = rows[0]!
  // What follows from a value comes with it.
  await trx.raw(
    `with rest as (select i.* from spoor.correction_item i where i.correction_id = ? and ${isUnwritten})
     insert into spoor.correction_item (correction_id, type_id, record_key, label, field_id, save_id, found, target, act, erased, state)
     select ?, i.type_id, i.record_key, i.label, i.field_id, i.save_id, i.found, i.target, i.act, i.erased, 'clear'
       from spoor.correction_item i where i.correction_id = ?
        and (i.id in (select id from rest) or i.state = 'follows' and (i.type_id, i.record_key) in (select type_id, record_key from rest))
      order by i.id`,
    [correctionId, id, correctionId],
  )
  await trx.raw(
    `insert into spoor.correction_change (correction_id, save_id, field_id, item_id)
     select n.correction_id, c.save_id, c.field_id, n.id
       from spoor.correction_change c join spoor.correction_item o on o.id = c.item_id
       join spoor.correction_item n on n.correction_id = ? and n.type_id = o.type_id and n.record_key = o.record_key and n.field_id = o.field_id
      where c.correction_id = ?`,
    [id, correctionId],
  )
  return id
}
