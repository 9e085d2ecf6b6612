import { allows, sightOf, type Pack, type routes } from '@spoor/contract'
import type { Knex } from 'knex'
import type * as v from 'valibot'
import { gather } from '../cases/gather.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { demandWhole } from '../ledger/reach.ts'
import { recordEvent } from '../ledger/events.ts'
import { exportWords } from '../ledger/scope-words.ts'
import { requestedScopes } from '../scope/request.ts'
import { blackedScopesOf } from './closings.ts'
import { listed, parseWork } from '@spoor/core'
import { ask, openJob } from '../work/jobs.ts'
import { linksOf } from './links.ts'

export type PackBody = v.InferOutput<(typeof routes.makePack)['body']>

export interface PackRow {
  id: number
  title: string
  why: string
  scope: string
  zone: string
  columns: Pack['columns']
  shown: Pack['shown']
  said: boolean
  stamped: boolean
  /** What is worked out of its scope and put in, as a link has it. */
  work: string | null
  beside: Pack['beside']
  /** Why by field. */
  blacked: Record<string, string>
  blacked_scopes: { scope: string; why: string }[]
  made_by: number
  /** The regular pack of which it is one. */
  regular_id: number | null
  made_by_name: string
  asked_at: string
  job_id: number | null
  state: Pack['state']
  made_at: string | null
  cover: Pack['cover']
  size: string | null
  digest: string | null
  failed_why: string | null
  withdrawn_by_name: string | null
  withdrawn_at: string | null
  withdrawn_why: string | null
}

const columns =
  'id title why scope zone columns shown said stamped work beside blacked blacked_scopes made_by regular_id asked_at job_id state made_at cover size digest failed_why withdrawn_at withdrawn_why'
    .split(' ')
    .map((name) => `k.${name}`)

/** Packs that somebody may know of: all, or their own for whoever sees a part only. */
function rows(db: Knex, person: SignedIn) {
  const query = db('spoor.pack as k')
    .join('spoor.person as p', 'p.id', 'k.made_by')
    .leftJoin('spoor.person as w', 'w.id', 'k.withdrawn_by')
    .select(...columns, 'p.name as made_by_name', 'w.name as withdrawn_by_name')
  return sightOf(person.role) === 'everything' ? query : query.where('k.made_by', person.id)
}

const subjectOf = (packId: number) => `pack ${packId}`
const mostListed = 100
const mostTaken = 20

export async function listPacks(
  db: Database,
  person: SignedIn,
  before?: number,
): Promise<{ packs: Pack[]; next: number | null }> {
  const query = rows(db, person)
    .orderBy('k.id', 'desc')
    .limit(mostListed + 1)
  if (before !== undefined) void query.where('k.id', '<', before)
  const found = (await query) as PackRow[]
  const packs = await Promise.all(found.slice(0, mostListed).map((row) => shown(db, row)))
  return { packs, next: found.length > mostListed ? packs.at(-1)!.id : null }
}

/** @throws Problem where there is none that the person may know of */
export async function packRow(db: Knex, person: SignedIn, packId: number): Promise<PackRow> {
  const row = (await rows(db, person).where('k.id', packId).first()) as PackRow | undefined
  if (!row) throw new Problem('not-found', `There is no pack ${packId} that you may see.`)
  return row
}

export async function readPack(db: Knex, person: SignedIn, packId: number): Promise<Pack> {
  return await shown(db, await packRow(db, person, packId))
}

async function shown(db: Knex, row: PackRow): Promise<Pack> {
  const [taken, [count], links, mails, job] = await Promise.all([
    db('spoor.pack_taking as t')
      .leftJoin('spoor.person as p', 'p.id', 't.person_id')
      .leftJoin('spoor.pack_link as l', 'l.id', 't.link_id')
      .where('t.pack_id', row.id)
      .orderBy('t.id', 'desc')
      .limit(mostTaken)
      .select<{ by: string; at: string }[]>(
        db.raw(`coalesce(p.name, 'the link for ' || l.for_whom) as by`),
        't.taken_at as at',
      ),
    db('spoor.pack_taking').where({ pack_id: row.id }).count<{ count: string }[]>('* as count'),
    linksOf(db, row.id),
    mailsOf(db, row.id),
    row.state === 'going' ? openJob(db, 'packing', subjectOf(row.id)) : undefined,
  ])
  return {
    id: row.id,
    title: row.title,
    why: row.why,
    scope: row.scope,
    zone: row.zone,
    columns: row.columns,
    shown: row.shown,
    said: row.said,
    stamped: row.stamped,
    workedOut: row.work,
    beside: row.beside,
    blackedScopes: row.blacked_scopes,
    blacked: Object.entries(row.blacked).map(([fieldId, why]) => ({ fieldId: Number(fieldId), why })),
    madeBy: row.made_by_name,
    askedAt: row.asked_at,
    state: row.state,
    failed: row.failed_why,
    madeAt: row.made_at,
    cover: row.cover,
    size: row.size === null ? null : Number(row.size),
    digest: row.digest,
    withdrawn:
      row.withdrawn_at === null
        ? null
        : { by: row.withdrawn_by_name ?? 'Spoor', at: row.withdrawn_at, why: row.withdrawn_why ?? '' },
    work: job
      ? {
          jobId: job.id,
          doing: job.doing,
          done: Number(job.done),
          total: job.total === null ? null : Number(job.total),
        }
      : null,
    taken,
    takenCount: Number(count!.count),
    links,
    mails,
    regularId: row.regular_id,
  }
}

async function mailsOf(db: Knex, packId: number): Promise<Pack['mails']> {
  const { rows } = await db.raw<{ rows: Pack['mails'] }>(
    `select m.id::int, m.address as "to", p.name as by, m.asked_at as "askedAt", m.state, m.tries, m.trouble, m.due_at as "dueAt", m.sent_at as "sentAt"
       from spoor.pack_mail m join spoor.person p on p.id = m.asked_by where m.pack_id = ? order by m.id desc`,
    [packId],
  )
  return rows
}

/** To which addresses a pack is sent, how long each link leads to it, and how often. */
export interface MailWish {
  to: readonly string[]
  days: number
  most: number
}

/** Has a mail wait for each address, with a link of its own, until the pack is there. */
export async function putMails(
  trx: Knex.Transaction,
  packId: number,
  person: Pick<SignedIn, 'id'>,
  { to, days, most }: MailWish,
): Promise<void> {
  if (to.length > 0)
    await trx('spoor.pack_mail').insert(
      [...new Set(to)].map((address) => ({ pack_id: packId, address, asked_by: person.id, days, most })),
    )
}

export async function mailPack(db: Database, packId: number, wish: MailWish, person: SignedIn): Promise<void> {
  await db.transaction(async (trx) => {
    await putMails(trx, packId, person, wish)
    const words = `had pack ${packId} sent to ${listed([...new Set(wish.to)])}`
    await recordEvent(trx, { kind: 'export', personId: person.id, words })
  })
}

/**
 * Asks for a pack, which is made as a job.
 * @param along what else is kept with it
 * @throws Problem where the scope is not understood or the zone not known
 */
export async function askForPack(
  db: Database,
  body: PackBody,
  person: SignedIn,
  {
    address,
    along,
  }: { address?: string | undefined; along?(trx: Knex.Transaction, packId: number): Promise<void> } = {},
): Promise<Pack> {
  const scopes = await requestedScopes(db, body.scope, person)
  const work = body.work === undefined ? null : parseWork(body.work)
  const beside = body.beside ?? []
  const { blackedScopes = [] } = body
  await blackedScopesOf(db, blackedScopes, person)
  if ((work !== null && work.form !== 'pivot') || beside.length > 0) demandWhole(scopes)
  const words = await exportWords(db, body.scope, person)
  const id = await db.transaction(async (trx) => {
    const [row] = await trx('spoor.pack')
      .insert({
        title: body.title,
        why: body.why,
        scope: body.scope,
        zone: body.zone,
        columns: body.columns,
        shown: body.shown,
        said: body.said && allows(person.role, 'review.read'),
        stamped: body.stamped,
        work: body.work ?? null,
        beside: JSON.stringify(beside),
        blacked_scopes: JSON.stringify(blackedScopes),
        blacked: JSON.stringify(Object.fromEntries(body.blacked.map(({ fieldId, why }) => [fieldId, why]))),
        made_by: person.id,
      })
      .returning<{ id: number }[]>('id')
    const { id: packId } = row!
    const { job } = await ask(trx, {
      kind: 'packing',
      subject: subjectOf(packId),
      words: `Making pack ${packId}`,
      input: { packId },
      personId: person.id,
    })
    await trx('spoor.pack').where({ id: packId }).update({ job_id: job.id })
    if (body.caseId !== undefined) {
      if (!allows(person.role, 'cases.write'))
        throw new Problem('not-allowed', 'A pack can be put into a case by whoever works on cases. It was not made.')
      await gather(trx, person, body.caseId, [{ kind: 'pack', packId }])
    }
    await along?.(trx, packId)
    await recordEvent(trx, {
      kind: 'export',
      personId: person.id,
      words: `asked for pack ${packId}: ${words}`,
      address,
    })
    return packId
  })
  return await readPack(db, person, id)
}
