import { allows, type Erasure } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'

/** A wish to erase as it is kept. */
export interface ErasureRow {
  id: number
  save_id: string
  type_id: number
  record_key: string
  label: string
  field_id: number
  reach: Erasure['reach']
  reason: string
  asked_by: number
  asked_at: string
  state: Erasure['state']
  decided_by: number | null
  decided_at: string | null
  answer: string | null
}

/** The changes that a wish means and that are not erased yet. */
export function meant(
  db: Knex,
  {
    reach,
    save_id,
    type_id,
    record_key,
    field_id,
  }: Pick<ErasureRow, 'reach' | 'save_id' | 'type_id' | 'record_key' | 'field_id'>,
) {
  const query = db('ledger.change as c').where({
    'c.type_id': type_id,
    'c.record_key': record_key,
    'c.field_id': field_id,
    'c.erased': false,
  })
  return reach === 'change' ? query.where('c.save_id', save_id) : query
}

const mostListed = 200

interface Listed extends ErasureRow {
  asked_name: string
  decided_name: string | null
  erased: string
}

function shown(row: Listed, changes: number, person: SignedIn): Erasure {
  const waits = row.state === 'waiting'
  return {
    id: row.id,
    saveId: row.save_id,
    typeId: row.type_id,
    label: row.label,
    fieldId: row.field_id,
    reach: row.reach,
    changes,
    reason: row.reason,
    state: row.state,
    askedBy: row.asked_name,
    askedAt: row.asked_at,
    decidedBy: row.decided_name,
    decidedAt: row.decided_at,
    answer: row.answer,
    mayDecide: waits && row.asked_by !== person.id && allows(person.role, 'erasure.decide'),
    mayWithdraw: waits && row.asked_by === person.id,
  }
}

const listed = (db: Database) =>
  db('spoor.erasure as e')
    .join('spoor.person as a', 'a.id', 'e.asked_by')
    .leftJoin('spoor.person as d', 'd.id', 'e.decided_by')
    .select('e.*', 'a.name as asked_name', 'd.name as decided_name')
    .select(db.raw('(select count(*) from ledger.erased x where x.erasure_id = e.id) as erased'))

async function withCounts(db: Database, rows: readonly Listed[], person: SignedIn): Promise<Erasure[]> {
  return await Promise.all(
    rows.map(async (row) => {
      if (row.state !== 'waiting') return shown(row, Number(row.erased), person)
      const [counted] = await meant(db, row).count<{ count: string }[]>('* as count')
      return shown(row, Number(counted?.count ?? 0), person)
    }),
  )
}

/** Wishes and what came of them, those that wait first; those that mean a change of one save when it is named. */
export async function listErasures(db: Database, person: SignedIn, saveId: string | undefined): Promise<Erasure[]> {
  const query = listed(db).orderByRaw(`e.state = 'waiting' desc, e.id desc`).limit(mostListed)
  if (saveId !== undefined)
    void query.whereRaw(
      `(e.save_id = ?::bigint or exists (select from ledger.erased x where x.erasure_id = e.id and x.save_id = ?::bigint)
        or (e.state = 'waiting' and e.reach = 'record' and exists (select from ledger.save s where s.id = ?::bigint and s.type_id = e.type_id and s.record_key = e.record_key)))`,
      [saveId, saveId, saveId],
    )
  return await withCounts(db, (await query) as Listed[], person)
}

export async function readErasure(db: Database, person: SignedIn, id: number): Promise<Erasure> {
  const row = (await listed(db).where('e.id', id).first()) as Listed | undefined
  if (!row) throw new Problem('not-found', `There is no erasure ${id}.`)
  return (await withCounts(db, [row], person))[0]!
}

interface Change {
  type_id: number
  record_key: string
  label: string
  erased: boolean
}

async function changeOf(db: Database, saveId: string, fieldId: number): Promise<Change> {
  const change = await db('ledger.save as s')
    .join('ledger.change as c', (on) => on.on('c.captured_at', 's.captured_at').andOn('c.save_id', 's.id'))
    .where({ 's.id': saveId, 'c.field_id': fieldId })
    .first<Change | undefined>('c.type_id', 'c.record_key', 's.label', 'c.erased')
  if (!change) throw new Problem('not-found', `Save ${saveId} has no such change. Nothing was asked.`)
  return change
}

/** How many changes of the field the record's trail has. */
export async function reachOf(db: Database, saveId: string, fieldId: number): Promise<{ record: number }> {
  const { type_id, record_key } = await changeOf(db, saveId, fieldId)
  const [row] = await meant(db, { reach: 'record', save_id: saveId, type_id, record_key, field_id: fieldId }).count<
    { count: string }[]
  >('* as count')
  return { record: Number(row?.count ?? 0) }
}

export interface Wish {
  saveId: string
  fieldId: number
  reach: Erasure['reach']
  reason: string
}

export async function askErasure(
  db: Database,
  person: SignedIn,
  { saveId, fieldId, reach, reason }: Wish,
): Promise<number> {
  const change = await changeOf(db, saveId, fieldId)
  if (change.erased) throw new Problem('rule-broken', 'These values were erased already. Nothing was asked.')
  return await db.transaction(async (trx) => {
    const [row] = await trx('spoor.erasure')
      .insert({
        save_id: saveId,
        type_id: change.type_id,
        record_key: change.record_key,
        label: change.label,
        field_id: fieldId,
        reach,
        reason,
        asked_by: person.id,
      })
      .returning<{ id: number }[]>('id')
    await recordEvent(trx, {
      kind: 'erasure',
      personId: person.id,
      words: `asked that ${await wordsOf(trx, { ...change, field_id: fieldId, reach, save_id: saveId })} be erased: ${reason}`,
    })
    return row!.id
  })
}

/** What is to be erased or was, in words without values. */
export async function wordsOf(
  db: Knex,
  { label, field_id, reach, save_id }: Pick<ErasureRow, 'label' | 'field_id' | 'reach' | 'save_id'>,
): Promise<string> {
  const field = await db('spoor.field').where({ id: field_id }).first<{ name: string }>('name')
  return reach === 'change'
    ? `“${field.name}” of ${label} in save ${save_id}`
    : `every change of “${field.name}” of ${label}`
}

/** A wish that was not decided yet, held until the transaction ends. @throws Problem when it was */
export async function demandWaiting(trx: Knex.Transaction, id: number): Promise<ErasureRow> {
  const row = await trx<ErasureRow>('spoor.erasure').where({ id }).forUpdate().first()
  if (!row) throw new Problem('not-found', `There is no erasure ${id}.`)
  if (row.state !== 'waiting')
    throw new Problem('erasure-decided', `This was ${row.state} meanwhile. Nothing more was done.`)
  return row
}

export async function refuseErasure(db: Database, person: SignedIn, id: number, answer: string): Promise<void> {
  await close(db, id, { state: 'refused', person, answer })
}

export async function withdrawErasure(db: Database, person: SignedIn, id: number): Promise<void> {
  await close(db, id, { state: 'withdrawn', person, answer: null })
}

interface Closing {
  state: 'refused' | 'withdrawn'
  person: SignedIn
  answer: string | null
}

async function close(db: Database, id: number, { state, person, answer }: Closing): Promise<void> {
  await db.transaction(async (trx) => {
    const row = await demandWaiting(trx, id)
    const own = row.asked_by === person.id
    if (state === 'withdrawn' && !own)
      throw new Problem('not-yours', 'Only the one who asked can take it back; refuse it instead.')
    if (state === 'refused') demandSecond(row, person)
    await trx('spoor.erasure').where({ id }).update({ state, answer, decided_by: person.id, decided_at: trx.fn.now() })
    const what = await wordsOf(trx, row)
    await recordEvent(trx, {
      kind: 'erasure',
      personId: person.id,
      words: state === 'withdrawn' ? `took back that ${what} be erased` : `refused that ${what} be erased: ${answer}`,
    })
  })
}

/** @throws Problem for the one who asked. */
export function demandSecond(row: ErasureRow, person: SignedIn): void {
  if (row.asked_by === person.id)
    throw new Problem(
      'second-person',
      'You asked for this yourself; somebody else has to decide it. Nothing was erased.',
    )
}
