import { boundArray } from '../database/knex.ts'

const held = 'where i.case_id = any(?::int[]) and i.removed_at is null'
const ways = [
  `select i.case_id, i.save_id from spoor.case_item i ${held} and i.save_id is not null`,
  `select i.case_id, s.id from spoor.case_item i
     join ledger.save s on s.type_id = i.type_id and s.record_key = i.record_key ${held}`,
  `select i.case_id, s.id from spoor.case_item i join ledger.save s on s.correction_id = i.correction_id ${held}`,
  `select i.case_id, c.save_id from spoor.case_item i
     join spoor.correction_change c on c.correction_id = i.correction_id ${held}`,
  `select i.case_id, q.save_id from spoor.case_item i join spoor.question_save q on q.question_id = i.question_id ${held}`,
  `select i.case_id, n.save_id from spoor.case_item i join spoor.note n on n.id = i.note_id ${held}`,
]

/**
 * A query for `case_id` and `save_id` of the saves that belong to some cases: gathered themselves, of a record that is, made or set back
 * by a correction that is, or what a question or a note is about. One may come by several ways.
 */
export function caseSaves(cases: readonly number[]): [sql: string, bindings: string[][]] {
  return [ways.join(' union all '), ways.map(() => boundArray(cases))]
}
