import { counted } from '@spoor/core'
import {
  allows,
  permissions,
  sightOf,
  type Assignment,
  type Question,
  type SaveReview,
  type Waiting,
} from '@spoor/contract'
import type { Knex } from 'knex'
import { casesOf } from '../cases/store.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import { withAliases } from '../ledger/aliases.ts'
import type { SignedIn } from '../http/bind.ts'

/** So many of an assignment's or a question's saves are named; the scope sentence has them all. */
const savesNamed = 200

interface AssignmentRow {
  id: number
  to_id: number
  to_name: string
  due_on: string | null
  note: string
  by: string
  at: string
  done_at: string | null
  done_by: string | null
  save_ids: string[]
}

interface QuestionRow {
  id: number
  actor_id: number
  actor_name: string
  reachable: boolean
  text: string
  by: string
  at: string
  answer: string | null
  answered_by: string | null
  answered_at: string | null
  save_ids: string[]
}

function assignments(db: Knex): Knex.QueryBuilder {
  return db('spoor.assignment as a')
    .join('spoor.person as t', 't.id', 'a.assigned_to')
    .join('spoor.person as b', 'b.id', 'a.by')
    .leftJoin('spoor.person as d', 'd.id', 'a.done_by')
    .select(
      'a.id',
      't.id as to_id',
      't.name as to_name',
      'a.note',
      'b.name as by',
      'a.at',
      'a.done_at',
      'd.name as done_by',
    )
    .select(db.raw('a.due_on::text as due_on'))
    .select(
      db.raw(
        `array(select s.save_id::text from spoor.assignment_save s where s.assignment_id = a.id order by s.save_id limit ${savesNamed}) as save_ids`,
      ),
    )
}

function questions(db: Knex): Knex.QueryBuilder {
  return db('spoor.question as q')
    .join('spoor.actor as a', 'a.id', 'q.actor_id')
    .join('spoor.person as b', 'b.id', 'q.by')
    .leftJoin('spoor.person as w', 'w.id', 'q.answered_by')
    .select(
      'q.id',
      'q.actor_id',
      'a.name as actor_name',
      'q.text',
      'b.name as by',
      'q.at',
      'q.answer',
      'w.name as answered_by',
      'q.answered_at',
    )
    .select(
      db.raw(`exists (select from spoor.person p where p.disabled_at is null and p.actor_id in
        (select one.id from spoor.actor one where coalesce(one.same_as, one.id) = coalesce(a.same_as, a.id))) as reachable`),
      db.raw(
        `array(select s.save_id::text from spoor.question_save s where s.question_id = q.id order by s.save_id limit ${savesNamed}) as save_ids`,
      ),
    )
}

const assignmentShown = (row: AssignmentRow): Assignment => ({
  id: row.id,
  to: { id: row.to_id, name: row.to_name },
  dueOn: row.due_on,
  note: row.note,
  by: row.by,
  at: row.at,
  doneAt: row.done_at,
  doneBy: row.done_by,
  saveIds: row.save_ids,
})

const questionShown = (row: QuestionRow): Question => ({
  id: row.id,
  actor: { id: row.actor_id, name: row.actor_name },
  reachable: row.reachable,
  text: row.text,
  by: row.by,
  at: row.at,
  answer: row.answer,
  answeredBy: row.answered_by,
  answeredAt: row.answered_at,
  saveIds: row.save_ids,
})

/** What people said of one save. */
export async function reviewOf(db: Database, saveId: string): Promise<SaveReview> {
  const [notes, assigned, asked, marks] = await Promise.all([
    db('spoor.note as n')
      .join('spoor.person as p', 'p.id', 'n.by')
      .where({ save_id: saveId })
      .orderBy('n.id')
      .select('n.id', 'n.text', 'p.name as by', 'n.at'),
    assignments(db)
      .whereExists((q) =>
        q.select(1).from('spoor.assignment_save as s').whereRaw('s.assignment_id = a.id and s.save_id = ?', [saveId]),
      )
      .orderBy('a.id'),
    questions(db)
      .whereExists((q) =>
        q.select(1).from('spoor.question_save as s').whereRaw('s.question_id = q.id and s.save_id = ?', [saveId]),
      )
      .orderBy('q.id'),
    db('spoor.mark as m')
      .join('spoor.person as p', 'p.id', 'm.by')
      .where({ save_id: saveId })
      .orderBy('m.at')
      .select('m.mark', 'p.name as by', 'm.at'),
  ])
  return {
    notes: (notes as { id: string; text: string; by: string; at: string }[]).map((note) => ({
      ...note,
      id: Number(note.id),
    })),
    assignments: (assigned as AssignmentRow[]).map(assignmentShown),
    questions: (asked as QuestionRow[]).map(questionShown),
    marks: marks as SaveReview['marks'],
  }
}

/** The saves of a request that there are. @throws Problem when any of them is not in the ledger. */
async function demandSaves(trx: Knex, saveIds: readonly string[]): Promise<{ id: string; actor_id: number }[]> {
  const wanted = [...new Set(saveIds)]
  const rows = await trx('ledger.save as s')
    .join('spoor.actor as a', 'a.id', 's.actor_id')
    .whereRaw('s.id = any(?::bigint[])', [boundArray(wanted)])
    .select<{ id: string; actor_id: number }[]>('s.id', trx.raw('coalesce(a.same_as, a.id) as actor_id'))
  if (rows.length < wanted.length)
    throw new Problem('not-found', 'Some of these saves are not in the ledger. Nothing was written.')
  return rows
}

export async function addNote(
  db: Database,
  person: SignedIn,
  saveIds: readonly string[],
  text: string,
): Promise<number> {
  return await db.transaction(async (trx) => {
    const saves = await demandSaves(trx, saveIds)
    await trx.raw('insert into spoor.note (save_id, text, by) select unnest(?::bigint[]), ?, ?', [
      boundArray(saves.map((save) => save.id)),
      text,
      person.id,
    ])
    await recordEvent(trx, {
      kind: 'review',
      personId: person.id,
      words: `wrote a note to ${counted(saves.length, 'save')}`,
    })
    return saves.length
  })
}

export interface NewAssignment {
  saveIds: readonly string[]
  to: number
  dueOn: string | null
  note: string
}

export async function assign(
  db: Database,
  person: SignedIn,
  { saveIds, to, dueOn, note }: NewAssignment,
): Promise<Assignment> {
  const id = await db.transaction(async (trx) => {
    const assignee = await trx('spoor.person')
      .where({ id: to })
      .whereNull('disabled_at')
      .whereIn('role', [...permissions['review.write']])
      .first<{ name: string } | undefined>('name')
    if (!assignee)
      throw new Problem(
        'rule-broken',
        'Only an administrator, a reviewer or an approver who may sign in can be given saves to deal with. Nothing was assigned.',
      )
    const saves = await demandSaves(trx, saveIds)
    const [row] = await trx('spoor.assignment')
      .insert({ assigned_to: to, due_on: dueOn, note, by: person.id })
      .returning<{ id: number }[]>('id')
    await trx.raw('insert into spoor.assignment_save (assignment_id, save_id) select ?, unnest(?::bigint[])', [
      row!.id,
      boundArray(saves.map((save) => save.id)),
    ])
    await recordEvent(trx, {
      kind: 'review',
      personId: person.id,
      words: `assigned ${counted(saves.length, 'save')} to ${assignee.name}`,
    })
    return row!.id
  })
  return await assignmentById(db, id)
}

async function assignmentById(db: Database, id: number): Promise<Assignment> {
  const row = (await assignments(db).where('a.id', id).first()) as AssignmentRow | undefined
  if (!row) throw new Problem('not-found', 'There is no such assignment. Nothing was changed.')
  return assignmentShown(row)
}

export async function finish(db: Database, person: SignedIn, id: number, done: boolean): Promise<Assignment> {
  await assignmentById(db, id)
  await db('spoor.assignment')
    .where({ id })
    .update(done ? { done_by: person.id, done_at: db.fn.now() } : { done_by: null, done_at: null })
  await recordEvent(db, {
    kind: 'review',
    personId: person.id,
    words: `${done ? 'finished' : 'took up again'} assignment ${id}`,
  })
  return await assignmentById(db, id)
}

/** One question to each actor of the saves, about that actor's own. */
export async function ask(
  db: Database,
  person: SignedIn,
  saveIds: readonly string[],
  text: string,
): Promise<Question[]> {
  const ids = await db.transaction(async (trx) => {
    const saves = await demandSaves(trx, saveIds)
    const made: number[] = []
    for (const actorId of new Set(saves.map((save) => save.actor_id))) {
      const own = saves.filter((save) => save.actor_id === actorId)
      const [row] = await trx('spoor.question')
        .insert({ actor_id: actorId, text, by: person.id })
        .returning<{ id: number }[]>('id')
      await trx.raw('insert into spoor.question_save (question_id, save_id) select ?, unnest(?::bigint[])', [
        row!.id,
        boundArray(own.map((save) => save.id)),
      ])
      const actor = await trx('spoor.actor').where({ id: actorId }).first<{ name: string }>('name')
      await recordEvent(trx, {
        kind: 'review',
        personId: person.id,
        words: `asked ${actor.name} about ${counted(own.length, 'save')}`,
      })
      made.push(row!.id)
    }
    return made
  })
  return ((await questions(db).whereIn('q.id', ids).orderBy('q.id')) as QuestionRow[]).map(questionShown)
}

/** The person's own actor and everything that turned out to be them. */
async function ownActors(db: Database, { actorId }: SignedIn): Promise<number[]> {
  return actorId === null ? [] : [...(await withAliases(db, [actorId]))]
}

/** An answer is given once: by the actor, or written down by somebody whom the actor told. */
export async function answer(db: Database, person: SignedIn, id: number, text: string): Promise<Question> {
  const row = await db('spoor.question').where({ id }).first<{ actor_id: number } | undefined>('actor_id')
  const own = row !== undefined && (await ownActors(db, person)).includes(row.actor_id)
  // Whoever may only answer for themselves is not told which other questions there are.
  if (!own && sightOf(person.role) === 'own')
    throw new Problem('not-yours', 'You can answer questions about your own saves only. Nothing was written.')
  if (!row) throw new Problem('not-found', 'There is no such question. Nothing was written.')
  await db.transaction(async (trx) => {
    const updated = await trx('spoor.question')
      .where({ id })
      .whereNull('answered_at')
      .update({ answer: text, answered_by: person.id, answered_at: trx.fn.now() })
    if (updated === 0)
      throw new Problem(
        'question-answered',
        'Somebody answered it already; that answer is kept, and yours was not written. Load the page again to read it.',
      )
    await recordEvent(trx, {
      kind: 'review',
      personId: person.id,
      words: own ? `answered question ${id}` : `wrote down the answer to question ${id}`,
    })
  })
  return questionShown((await questions(db).where('q.id', id).first()) as QuestionRow)
}

/** What waits for one person. */
export async function waitingFor(db: Database, person: SignedIn): Promise<Waiting> {
  const actors = await ownActors(db, person)
  const reviews = allows(person.role, 'review.read')
  const [assigned, toAnswer, asked, answered, flagged, plans, erasures, corrections, sentBack, cases] =
    await Promise.all([
      assignments(db).where('a.assigned_to', person.id).whereNull('a.done_at').orderByRaw('a.due_on nulls last, a.id'),
      questions(db).whereIn('q.actor_id', actors).whereNull('q.answered_at').orderBy('q.id'),
      questions(db).where('q.by', person.id).whereNull('q.answered_at').orderBy('q.id'),
      questions(db)
        .where('q.by', person.id)
        .whereRaw("q.answered_at >= coalesce(?::timestamptz, now() - interval '7 days')", [person.lookedAt])
        .orderBy('q.id'),
      db('spoor.mark').where({ mark: 'flagged' }).count<{ count: string }[]>('* as count'),
      db('spoor.plan_draft as d')
        .join('spoor.source as s', 's.id', 'd.source_id')
        .join('spoor.person as p', 'p.id', 'd.proposed_by')
        .whereNot('d.proposed_by', person.id)
        .select<Waiting['plans']>('s.name as source', 'p.name as by', 'd.proposed_at as at'),
      db('spoor.erasure as e')
        .join('spoor.person as p', 'p.id', 'e.asked_by')
        .join('spoor.field as f', 'f.id', 'e.field_id')
        .where('e.state', 'waiting')
        .whereNot('e.asked_by', person.id)
        .orderBy('e.id')
        .select<Waiting['erasures']>(
          'e.id',
          db.raw(`f.name || ' of ' || e.label as words`),
          'p.name as by',
          'e.asked_at as at',
        ),
      db('spoor.correction as c')
        .join('spoor.person as p', 'p.id', 'c.proposed_by')
        .where('c.state', 'draft')
        .whereNot('c.drafted_by', person.id)
        .orderBy('c.id')
        .select<Waiting['corrections']>('c.id', 'c.proposed_reason as reason', 'p.name as by', 'c.proposed_at as at'),
      db('spoor.correction as c')
        .join('spoor.person as p', 'p.id', 'c.sent_back_by')
        .where({ 'c.state': 'draft', 'c.drafted_by': person.id })
        .orderBy('c.id')
        .select<Waiting['sentBack']>('c.id', 'c.sent_back_words as words', 'p.name as by'),
      allows(person.role, 'cases.read') ? casesOf(db, person.id) : [],
    ])
  return {
    assigned: (assigned as AssignmentRow[]).map(assignmentShown),
    toAnswer: (toAnswer as QuestionRow[]).map(questionShown),
    asked: (asked as QuestionRow[]).map(questionShown),
    answered: (answered as QuestionRow[]).map(questionShown),
    flagged: person.permissions.includes('changes.mark') ? Number(flagged[0]?.count ?? 0) : 0,
    erasures: person.permissions.includes('erasure.decide') ? erasures : [],
    corrections: person.permissions.includes('corrections.apply') ? corrections : [],
    sentBack: person.permissions.includes('corrections.draft') ? sentBack : [],
    cases: cases.map(({ id, question, unanswered, lastAt }) => ({ id, question, unanswered, lastAt })),
    plans: reviews && person.permissions.includes('tracking.approve') ? plans : [],
  }
}
