import type { RecordMark } from '@spoor/contract'
import { allows, type Role } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'

/**
 * What people and Spoor have made of a record's saves, for its time line: runs that were declared, stories of what stood out,
 * questions, corrections, baselines. Only what the reader's role may read.
 */
export async function marksOf(
  db: Database,
  typeId: number,
  keys: readonly string[],
  saveIds: readonly string[],
  role: Role,
): Promise<RecordMark[]> {
  const saves = boundArray(saveIds)
  const asked: Promise<RecordMark[]>[] = [runs(db, saves)]
  if (allows(role, 'noticing.read')) asked.push(stories(db, saves))
  if (allows(role, 'review.read')) asked.push(questions(db, saves))
  if (allows(role, 'corrections.read')) asked.push(corrections(db, saves))
  if (allows(role, 'baselines.read')) asked.push(baselines(db, typeId, boundArray(keys)))
  return (await Promise.all(asked)).flat().sort((a, b) => (a.at < b.at ? -1 : 1))
}

type Row = Omit<RecordMark, 'kind'>

async function marked(
  db: Database,
  kind: RecordMark['kind'],
  sql: string,
  bindings: readonly (string | number | string[])[],
): Promise<RecordMark[]> {
  const { rows } = await db.raw<{ rows: Row[] }>(sql, [...bindings])
  return rows.map((row) => ({ kind, ...row, id: String(row.id) }))
}

const own = `unnest(?::bigint[]) as own(id) join ledger.save s on s.id = own.id`

const runs = (db: Database, saves: string[]) =>
  marked(
    db,
    'run',
    `select r.id, min(s.captured_at) as at, r.declared as words from ${own} join ledger.run r on r.id = s.run_id
      where r.declared is not null group by r.id, r.declared`,
    [saves],
  )
const stories = (db: Database, saves: string[]) =>
  marked(
    db,
    'story',
    `select st.id, min(s.captured_at) as at, 'stood out' as words from ${own}
       join spoor.story_save x on x.save_id = s.id join spoor.story st on st.id = x.story_id group by st.id`,
    [saves],
  )
const questions = (db: Database, saves: string[]) =>
  marked(
    db,
    'question',
    `select q.id, q.at, left(q.text, 200) as words from ${own}
       join spoor.question_save x on x.save_id = s.id join spoor.question q on q.id = x.question_id group by q.id`,
    [saves],
  )
const corrections = (db: Database, saves: string[]) =>
  marked(
    db,
    'correction',
    `select c.id, coalesce(min(s.captured_at), c.applied_at) as at, left(coalesce(c.reason, ''), 200) as words from ${own}
       join spoor.correction c on c.id = s.correction_id group by c.id`,
    [saves],
  )
const baselines = (db: Database, typeId: number, keys: string[]) =>
  marked(
    db,
    'baseline',
    `select b.id, b.at, b.name as words from spoor.baseline b
      where b.type_id = ? and b.state = 'kept'
        and exists (select from spoor.baseline_record m where m.baseline_id = b.id and m.record_key = any(?::text[]))`,
    [typeId, keys],
  )
