import { clockWords, counted, listed } from '@spoor/core'
import type { CaseEntry } from '@spoor/contract'
import type { Knex } from 'knex'
import { readCase } from '../cases/store.ts'
import { boundArray } from '../database/knex.ts'

/** What people said of saves in a pack, and the cases in which they are gathered. */
export type Said = { saves: string[]; by: string; at: string; text: string } & (
  | { kind: 'note' }
  | { kind: 'question'; asked: string; answer: string | null; answeredBy: string | null; answeredAt: string | null }
  | { kind: 'case'; number: number; owner: string; finding: string | null; entries: Omit<CaseEntry, 'id'>[] }
)

/**
 * Cases that are asked for with all that was written in them, notes on some saves, and questions about them with their
 * answers, in the order in which they came.
 */
export async function saidOf(db: Knex, saveIds: readonly string[], caseIds: readonly number[]): Promise<Said[]> {
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
  const cases = await Promise.all(caseIds.map((id) => readCase(db, id)))
  const all: Said[] = [
    ...cases.map((one) => ({
      kind: 'case' as const,
      saves: [],
      number: one.id,
      by: one.openedBy,
      at: one.openedAt,
      text: one.question,
      owner: one.owner.name,
      finding: one.finding,
      entries: one.entries.map(({ id: _, ...entry }) => entry),
    })),
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

/** "1 case, 2 notes and 1 question, answered". */
export function saidWords(said: readonly Said[]): string {
  const questions = said.filter((one) => one.kind === 'question')
  const open = questions.filter((one) => one.answer === null).length
  const notes = said.filter((one) => one.kind === 'note').length
  const cases = said.filter((one) => one.kind === 'case').length
  return listed([
    ...(cases > 0 ? [counted(cases, 'case')] : []),
    ...(notes > 0 ? [counted(notes, 'note')] : []),
    ...(questions.length > 0
      ? [`${counted(questions.length, 'question')}, ${open === 0 ? 'answered' : `${open} of them without an answer`}`]
      : []),
  ])
}

const entryWords: Readonly<Record<CaseEntry['kind'], string>> = {
  words: 'wrote',
  finding: 'closed it, and found',
  'opened again': 'opened it again',
  owner: 'handed it to',
  question: 'put its question in other words. Before it was',
}

/** Each as paragraphs to be read. */
export function saidParagraphs(said: readonly Said[], zone: string): string[] {
  return said.flatMap((one) => {
    if (one.kind === 'case')
      return [
        `Case ${one.number}, opened by ${one.by}, ${clockWords(one.at, zone)}, in the hands of ${one.owner}: ${one.text}`,
        ...one.entries.map(({ kind, text, by, at }) => `${by}, ${clockWords(at, zone)}, ${entryWords[kind]}: ${text}`),
        one.finding === null ? `Case ${one.number} is open.` : `Case ${one.number} is closed with its last finding.`,
      ]
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
