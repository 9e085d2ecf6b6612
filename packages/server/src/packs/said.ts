import { clockWords, counted, listed } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'

/** What people said of saves in a pack. */
export type Said = { saves: string[]; by: string; at: string; text: string } & (
  | { kind: 'note' }
  | { kind: 'question'; asked: string; answer: string | null; answeredBy: string | null; answeredAt: string | null }
)

/** Notes on some saves, and questions about them with their answers, in the order in which they came. */
export async function saidOf(db: Knex, saveIds: readonly string[]): Promise<Said[]> {
  const ids = [boundArray(saveIds)]
  const { rows: notes } = await db.raw<{ rows: { save_id: string; by: string; at: string; text: string }[] }>(
    `select n.save_id, p.name as by, n.at, n.text from spoor.note n join spoor.person p on p.id = n.by
      where n.save_id = any(?::bigint[]) order by n.id`,
    ids,
  )
  const { rows: questions } = await db.raw<{
    rows: {
      saves: string[]
      by: string
      at: string
      text: string
      asked: string
      answer: string | null
      answered_by: string | null
      answered_at: string | null
    }[]
  }>(
    // Of the saves that a question is about, those that are in the pack: the others are nobody's matter there.
    `select array_agg(s.save_id::text order by s.save_id) as saves, p.name as by, q.at, q.text, a.name as asked, q.answer, w.name as answered_by, q.answered_at
       from spoor.question q join spoor.question_save s on s.question_id = q.id and s.save_id = any(?::bigint[])
       join spoor.person p on p.id = q.by join spoor.actor a on a.id = q.actor_id left join spoor.person w on w.id = q.answered_by
      group by q.id, p.name, a.name, w.name order by q.id`,
    ids,
  )
  const all: Said[] = [
    ...notes.map(({ save_id, ...note }) => ({ kind: 'note' as const, saves: [save_id], ...note })),
    ...questions.map(({ answered_by: answeredBy, answered_at: answeredAt, ...question }) => ({
      kind: 'question' as const,
      ...question,
      answeredBy,
      answeredAt,
    })),
  ]
  return all.sort((a, b) => (a.at < b.at ? -1 : a.at > b.at ? 1 : 0))
}

/** "2 notes and 1 question, answered". */
export function saidWords(said: readonly Said[]): string {
  const questions = said.filter((one) => one.kind === 'question')
  const open = questions.filter((one) => one.answer === null).length
  const notes = said.length - questions.length
  return listed([
    ...(notes > 0 ? [counted(notes, 'note')] : []),
    ...(questions.length > 0
      ? [`${counted(questions.length, 'question')}, ${open === 0 ? 'answered' : `${open} of them without an answer`}`]
      : []),
  ])
}

/** Each as paragraphs to be read. */
export function saidParagraphs(said: readonly Said[], zone: string): string[] {
  return said.flatMap((one) => {
    const saves = `save${one.saves.length === 1 ? '' : 's'} ${listed(one.saves)}`
    if (one.kind === 'note') return [`On ${saves}, ${one.by}, ${clockWords(one.at, zone)}: ${one.text}`]
    return [
      `About ${saves}, ${one.by} asked ${one.asked}, ${clockWords(one.at, zone)}: ${one.text}`,
      one.answer === null
        ? 'There is no answer.'
        : `Answered by ${one.answeredBy ?? one.asked}, ${clockWords(one.answeredAt!, zone)}: ${one.answer}`,
    ]
  })
}
