import { counted } from '@spoor/core'
import { permissions, type Case, type CaseEntry, type CaseOpened } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'

interface CaseRow {
  id: number
  question: string
  owner_id: number
  owner_name: string
  opened_by: string
  opened_at: string
  state: Case['state']
  finding: string | null
  closed_by: string | null
  closed_at: string | null
  gathered: Case['gathered']
  unanswered: number
  last_at: string
}

function rows(db: Knex): Knex.QueryBuilder {
  return db('spoor.case_file as c')
    .join('spoor.person as o', 'o.id', 'c.owner_id')
    .join('spoor.person as b', 'b.id', 'c.opened_by')
    .leftJoin('spoor.person as x', 'x.id', 'c.closed_by')
    .select('c.id', 'c.question', 'c.owner_id', 'o.name as owner_name', 'b.name as opened_by', 'c.opened_at')
    .select('c.state', 'c.finding', 'x.name as closed_by', 'c.closed_at')
    .joinRaw(
      `cross join lateral (
         select jsonb_build_object('save', count(i.save_id), 'record', count(i.record_key), 'question', count(i.question_id),
                  'note', count(i.note_id), 'correction', count(i.correction_id), 'pack', count(i.pack_id)) as gathered
           from spoor.case_item i where i.case_id = c.id and i.removed_at is null) as held`,
    )
    .select('held.gathered')
    .select(
      db.raw(`(select count(*)::int from spoor.case_item i join spoor.question q on q.id = i.question_id
                where i.case_id = c.id and i.removed_at is null and q.answered_at is null) as unanswered`),
      db.raw(`greatest(c.opened_at, (select max(e.at) from spoor.case_entry e where e.case_id = c.id),
                (select max(greatest(i.gathered_at, i.removed_at)) from spoor.case_item i where i.case_id = c.id)) as last_at`),
    )
}

const shown = (row: CaseRow): Case => ({
  id: row.id,
  question: row.question,
  owner: { id: row.owner_id, name: row.owner_name },
  openedBy: row.opened_by,
  openedAt: row.opened_at,
  state: row.state,
  finding: row.finding,
  closedBy: row.closed_by,
  closedAt: row.closed_at,
  gathered: row.gathered,
  unanswered: row.unanswered,
  lastAt: row.last_at,
})

const mostListed = 100

export async function listCases(
  db: Database,
  { state, before }: { state: Case['state']; before?: number | undefined },
): Promise<{ cases: Case[]; next: number | null }> {
  const query = rows(db)
    .where('c.state', state)
    .orderBy('c.id', 'desc')
    .limit(mostListed + 1)
  if (before !== undefined) void query.where('c.id', '<', before)
  const found = (await query) as CaseRow[]
  const cases = found.slice(0, mostListed).map(shown)
  return { cases, next: found.length > mostListed ? cases.at(-1)!.id : null }
}

/** Open cases of one person. */
export async function casesOf(db: Database, personId: number): Promise<Case[]> {
  const found = (await rows(db)
    .where({ 'c.state': 'open', 'c.owner_id': personId })
    .orderBy('c.id')
    .limit(mostListed)) as CaseRow[]
  return found.map(shown)
}

/** @throws Problem where there is none */
export async function readCase(db: Knex, caseId: number): Promise<CaseOpened> {
  const row = (await rows(db).where('c.id', caseId).first()) as CaseRow | undefined
  if (!row) throw new Problem('not-found', `There is no case ${caseId}.`)
  const entries = await db('spoor.case_entry as e')
    .join('spoor.person as p', 'p.id', 'e.by')
    .where('e.case_id', caseId)
    .orderBy('e.id')
    .select<CaseEntry[]>('e.id', 'e.kind', 'e.text', 'p.name as by', 'e.at')
  return { ...shown(row), entries: entries.map((entry) => ({ ...entry, id: Number(entry.id) })) }
}

/**
 * The case, held until the transaction ends, so that nothing is put into it while it is closed.
 * @throws Problem where there is none, or where it is closed
 */
export async function holdOpen(trx: Knex.Transaction, caseId: number): Promise<{ question: string; owner_id: number }> {
  const row = await trx('spoor.case_file')
    .where({ id: caseId })
    .forUpdate()
    .first<{ question: string; owner_id: number; state: Case['state'] } | undefined>('question', 'owner_id', 'state')
  if (!row) throw new Problem('not-found', `There is no case ${caseId}. Nothing was changed.`)
  if (row.state === 'closed')
    throw new Problem('case-closed', `Case ${caseId} is closed. Nothing was changed; open it again first.`)
  return row
}

/** @throws Problem unless somebody may work on cases */
async function demandOwner(trx: Knex, personId: number): Promise<string> {
  const owner = await trx('spoor.person')
    .where({ id: personId })
    .whereNull('disabled_at')
    .whereIn('role', [...permissions['cases.write']])
    .first<{ name: string } | undefined>('name')
  if (!owner)
    throw new Problem(
      'rule-broken',
      'Only an administrator, a reviewer or an approver who may sign in can be given a case. Nothing was changed.',
    )
  return owner.name
}

async function write(
  trx: Knex.Transaction,
  entry: { caseId: number; kind: CaseEntry['kind']; text: string; person: SignedIn },
): Promise<void> {
  await trx('spoor.case_entry').insert({
    case_id: entry.caseId,
    kind: entry.kind,
    text: entry.text,
    by: entry.person.id,
  })
}

const said = (trx: Knex.Transaction, person: SignedIn, words: string) =>
  recordEvent(trx, { kind: 'review', personId: person.id, words })

/** The moment of the act itself: its transaction may have waited for another's end. */
const now = (trx: Knex.Transaction) => trx.raw<Knex.Raw>('clock_timestamp()')

/** A new case without anything in it yet. @returns its number */
export async function newCase(
  trx: Knex.Transaction,
  person: SignedIn,
  { question, ownerId }: { question: string; ownerId: number },
): Promise<number> {
  await demandOwner(trx, ownerId)
  const [row] = await trx('spoor.case_file')
    .insert({ question, owner_id: ownerId, opened_by: person.id })
    .returning<{ id: number }[]>('id')
  await said(trx, person, `opened case ${row!.id}`)
  return row!.id
}

/** Other words for its question, or another owner; what changes is written in the case. */
export async function changeCase(
  db: Database,
  person: SignedIn,
  caseId: number,
  { question, ownerId }: { question: string; ownerId: number },
): Promise<CaseOpened> {
  await db.transaction(async (trx) => {
    const before = await holdOpen(trx, caseId)
    if (before.owner_id !== ownerId) {
      await write(trx, { caseId, kind: 'owner', text: await demandOwner(trx, ownerId), person })
      await said(trx, person, `handed case ${caseId} to somebody else`)
    }
    if (before.question !== question) {
      await write(trx, { caseId, kind: 'question', text: before.question, person })
      await said(trx, person, `put the question of case ${caseId} in other words`)
    }
    await trx('spoor.case_file').where({ id: caseId }).update({ question, owner_id: ownerId })
  })
  return await readCase(db, caseId)
}

export async function writeInCase(db: Database, person: SignedIn, caseId: number, text: string): Promise<CaseOpened> {
  await db.transaction(async (trx) => {
    await holdOpen(trx, caseId)
    await write(trx, { caseId, kind: 'words', text, person })
    await said(trx, person, `wrote in case ${caseId}`)
  })
  return await readCase(db, caseId)
}

export async function closeCase(db: Database, person: SignedIn, caseId: number, finding: string): Promise<CaseOpened> {
  await db.transaction(async (trx) => {
    await holdOpen(trx, caseId)
    await trx('spoor.case_file')
      .where({ id: caseId })
      .update({ state: 'closed', finding, closed_by: person.id, closed_at: now(trx) })
    await write(trx, { caseId, kind: 'finding', text: finding, person })
    await said(trx, person, `closed case ${caseId} with a finding`)
  })
  return await readCase(db, caseId)
}

/** @throws Problem where there is none, or where it is open */
export async function openCaseAgain(db: Database, person: SignedIn, caseId: number, why: string): Promise<CaseOpened> {
  await db.transaction(async (trx) => {
    const opened = await trx('spoor.case_file')
      .where({ id: caseId, state: 'closed' })
      .update({ state: 'open', finding: null, closed_by: null, closed_at: null })
    if (opened === 0) throw new Problem('not-found', `There is no closed case ${caseId}. Nothing was changed.`)
    await write(trx, { caseId, kind: 'opened again', text: why, person })
    await said(trx, person, `opened case ${caseId} again`)
  })
  return await readCase(db, caseId)
}

/** Takes something out of an open case again. */
export async function removeFromCase(
  db: Database,
  person: SignedIn,
  { caseId, itemId, why }: { caseId: number; itemId: string; why: string },
): Promise<CaseOpened> {
  await db.transaction(async (trx) => {
    await holdOpen(trx, caseId)
    const removed = await trx('spoor.case_item')
      .where({ id: itemId, case_id: caseId })
      .whereNull('removed_at')
      .update({ removed_by: person.id, removed_at: now(trx), removed_why: why })
    if (removed === 0) throw new Problem('not-found', 'This is not in the case any more. Nothing was changed.')
    await said(trx, person, `took ${counted(1, 'thing')} out of case ${caseId}`)
  })
  return await readCase(db, caseId)
}
