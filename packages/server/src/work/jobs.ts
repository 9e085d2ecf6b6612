import { setTimeout as sleep } from 'node:timers/promises'
import { allows, jobKinds, type Job, type JobKind } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { queueSchema } from './queue.ts'

/** Long work as it is kept. */
export interface JobRow {
  id: number
  kind: JobKind
  subject: string
  words: string
  input: unknown
  asked_by: number | null
  asked_at: string
  began_at: string | null
  worker: string | null
  doing: string | null
  done: string
  total: string | null
  stop_asked: boolean
  ended_at: string | null
  outcome: 'done' | 'stopped' | 'failed' | null
  result: string | null
  problem: string | null
  output: unknown
}

export interface JobWish {
  kind: JobKind
  /** What it is done to; while one of that kind goes on there, no other begins. */
  subject: string
  /** What it is, as a sentence begins. */
  words: string
  input?: unknown
  personId?: number | null
  total?: number | string
}

/** Puts a job into the queue, or again after its server stopped, to be begun at once by a server that knows its kind. */
export async function enqueue(db: Knex, { id, kind }: Pick<JobRow, 'id' | 'kind'>): Promise<void> {
  await db.raw(
    `select ${queueSchema}.add_job(identifier => ?, payload => json_build_object('id', ?::int), job_key => ?)`,
    [kind, id, `job ${id}`],
  )
}

/** Asks for a job. @returns the one that goes on there, and whether it is the one that was asked for */
export async function ask(trx: Knex.Transaction, wish: JobWish): Promise<{ job: JobRow; fresh: boolean }> {
  const [job] = await trx('spoor.job')
    .insert({
      kind: wish.kind,
      subject: wish.subject,
      words: wish.words,
      input: JSON.stringify(wish.input ?? {}),
      asked_by: wish.personId ?? null,
      total: wish.total ?? null,
    })
    .onConflict(trx.raw('(kind, subject) where ended_at is null'))
    .ignore()
    .returning<JobRow[]>('*')
  if (job) {
    await enqueue(trx, job)
    return { job, fresh: true }
  }
  const going = await openJob(trx, wish.kind, wish.subject)
  // It ended in this moment.
  return going ? { job: going, fresh: false } : await ask(trx, wish)
}

export async function openJob(db: Knex, kind: JobKind, subject: string): Promise<JobRow | undefined> {
  return await db<JobRow>('spoor.job').where({ kind, subject, ended_at: null }).first()
}

export async function askToStop(db: Knex, kind: JobKind, subject: string): Promise<void> {
  await db('spoor.job').where({ kind, subject, ended_at: null }).update({ stop_asked: true })
}

const lookEveryMs = 100

/** Waits until a job has ended. @throws Problem that it ended with */
export async function endOf(db: Database, jobId: number): Promise<JobRow> {
  for (;;) {
    const row = await db<JobRow>('spoor.job').where({ id: jobId }).first()
    if (!row) throw new Problem('not-found', 'There is no such work.')
    if (row.ended_at !== null) {
      if (row.problem !== null) throw new Problem(row.problem as Problem['code'], row.result ?? '')
      return row
    }
    await sleep(lookEveryMs)
  }
}

/** The same, where it ends within some time. @returns null where it does not */
export async function endWithin(db: Database, jobId: number, ms: number): Promise<JobRow | null> {
  const untilMs = performance.now() + ms
  while (performance.now() < untilMs) {
    const row = await db('spoor.job').where({ id: jobId }).whereNotNull('ended_at').first('id')
    if (row) return await endOf(db, jobId)
    await sleep(lookEveryMs)
  }
  return null
}

const mostListed = 50

const listed = (db: Database) =>
  db('spoor.job as j')
    .leftJoin('spoor.person as p', 'p.id', 'j.asked_by')
    .select<(JobRow & { by: string | null })[]>('j.*', 'p.name as by')

/** Whoever asked for it may stop it, and whoever may ask for such. */
const mayStop = ({ kind, asked_by }: JobRow, { id, role }: Pick<SignedIn, 'id' | 'role'>) =>
  asked_by === id || allows(role, jobKinds[kind])

function shown(row: JobRow & { by: string | null }, person: Pick<SignedIn, 'id' | 'role'>): Job {
  return {
    id: row.id,
    kind: row.kind,
    words: row.words,
    by: row.by,
    askedAt: row.asked_at,
    beganAt: row.began_at,
    endedAt: row.ended_at,
    outcome: row.outcome,
    doing: row.doing,
    done: Number(row.done),
    total: row.total === null ? null : Number(row.total),
    result: row.result,
    stopping: row.ended_at === null && row.stop_asked,
    mayStop: row.ended_at === null && !row.stop_asked && mayStop(row, person),
  }
}

/** What is under way, all of it, then what became of the rest, newest first. */
export async function listJobs(
  db: Database,
  person: Pick<SignedIn, 'id' | 'role'>,
  before?: number,
): Promise<{ jobs: Job[]; next: number | null }> {
  const ended = listed(db)
    .whereNotNull('j.ended_at')
    .orderBy('j.id', 'desc')
    .limit(mostListed + 1)
  if (before !== undefined) void ended.where('j.id', '<', before)
  const going = before === undefined ? await listed(db).whereNull('j.ended_at').orderBy('j.id', 'desc') : []
  const rows = await ended
  return {
    jobs: [...going, ...rows.slice(0, mostListed)].map((row) => shown(row, person)),
    next: rows.length > mostListed ? rows[mostListed - 1]!.id : null,
  }
}

/** @throws Problem when there is none, or the person may not stop it. */
export async function stopJob(db: Database, person: Pick<SignedIn, 'id' | 'role'>, jobId: number): Promise<Job> {
  const row = await db<JobRow>('spoor.job').where({ id: jobId }).first()
  if (!row) throw new Problem('not-found', 'There is no such work.')
  if (!mayStop(row, person))
    throw new Problem('not-allowed', `Nothing was stopped. It takes a role that allows this (${jobKinds[row.kind]}).`)
  await db('spoor.job').where({ id: jobId, ended_at: null }).update({ stop_asked: true })
  const [now] = await listed(db).where('j.id', jobId)
  return shown(now!, person)
}
