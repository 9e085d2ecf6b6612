import type { Save } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'

/** What people and Spoor have made of a save. */
export interface Remarks {
  marks: Save['marks']
  /** The stories of what stood out that it is in. */
  stories: number[]
}

export const noRemarks: Remarks = { marks: [], stories: [] }

/** The remarks on some saves by save id, read for all of them at once; a save without any is not among them. */
export async function remarksOn(db: Database, saveIds: readonly string[]): Promise<Map<string, Remarks>> {
  const remarks = new Map<string, Remarks>()
  if (saveIds.length === 0) return remarks
  const { rows } = await db.raw<{ rows: { save_id: string; mark: Save['marks'][number] | null; story_id: number }[] }>(
    `with wanted(save_id) as materialized (select unnest(?::bigint[]))
     select save_id, mark, null::int as story_id from wanted join spoor.mark using (save_id)
     union select save_id, case when q.answered_at is null then 'asked' else 'answered' end, null
       from wanted join spoor.question_save s using (save_id) join spoor.question q on q.id = s.question_id
     union select save_id, 'assigned', null
       from wanted join spoor.assignment_save s using (save_id) join spoor.assignment a on a.id = s.assignment_id and a.done_at is null
     union select save_id, null, s.story_id from wanted join spoor.story_save s using (save_id)
     order by mark, story_id`,
    [boundArray(saveIds)],
  )
  for (const { save_id, mark, story_id } of rows) {
    let own = remarks.get(save_id)
    if (!own) remarks.set(save_id, (own = { marks: [], stories: [] }))
    if (mark === null) own.stories.push(story_id)
    else own.marks.push(mark)
  }
  return remarks
}

/** By which correction a change was set back last, by {@link changePlace}; only those that were. */
export async function setBackBy(db: Database, saveIds: readonly string[]): Promise<Map<string, number>> {
  const { rows } = await db.raw<{ rows: { save_id: string; field_id: number; last: number }[] }>(
    `select c.save_id, c.field_id, max(c.correction_id) as last
       from unnest(?::bigint[]) as wanted(id)
       join spoor.correction_change c on c.save_id = wanted.id join spoor.correction_item i on i.id = c.item_id and i.written
      group by c.save_id, c.field_id`,
    [boundArray(saveIds)],
  )
  return new Map(rows.map(({ save_id, field_id, last }) => [changePlace(save_id, field_id), last]))
}

/** Where the change of a field in a save stands in a map. */
export const changePlace = (saveId: string, fieldId: number): string => `${saveId} ${fieldId}`
