import { grouped } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { ask, endWithin, openJob, type JobRow, type JobWish } from './jobs.ts'

/** So long a request waits for a job before it says how far that is. */
const patienceMs = 1500
/** So long a stop is said to all who still wait. */
const saidForSeconds = 3

/** Who waits for a job, and what they may be told of it. */
export interface Waiting {
  personId: number | null
  /** What is done, as a sentence begins. */
  told: string
  /** Whether they may be told how far it is, and stop it. */
  named: boolean
}

/** Whether a job of that kind goes on for that subject, or was stopped or failed so lately that this is still said. */
export async function isAsked(db: Database, { kind, subject }: JobWish): Promise<boolean> {
  return (await openJob(db, kind, subject)) !== undefined || (await lateEnd(db, kind, subject)) !== undefined
}

async function lateEnd(db: Database, kind: JobRow['kind'], subject: string): Promise<JobRow | undefined> {
  return await db('spoor.job')
    .where({ kind, subject })
    .whereNot('outcome', 'done')
    .whereRaw('ended_at > clock_timestamp() - make_interval(secs => ?)', [saidForSeconds])
    .orderBy('id', 'desc')
    .first<JobRow | undefined>()
}

/**
 * Waits a short time for a job that answers a request, and asks for it where nobody did.
 * @throws Problem `being-read` while it goes on, so that whoever asks again goes on waiting; or how it ended, unless it is done
 */
export async function awaitJob(db: Database, wish: JobWish, { personId, told, named }: Waiting): Promise<void> {
  const { kind, subject, words } = wish
  const going = await openJob(db, kind, subject)
  if (!going) {
    const ended = await lateEnd(db, kind, subject)
    if (ended) return sayEnd(ended, told)
  }
  const job = going ?? (await db.transaction((trx) => ask(trx, { ...wish, personId }))).job
  const end = await endWithin(db, job.id, patienceMs)
  if (end) return sayEnd(end, told)
  const now = await db('spoor.job').where({ id: job.id }).first<JobRow>()
  const [done, total] = [Number(now.done), now.total === null ? null : Number(now.total)]
  const far = total === null ? '' : `: ${grouped(done)} of ${grouped(total)} saves`
  throw new Problem(
    'being-read',
    `${told}${named ? far : ''}. What was asked for comes when that is done.`,
    named ? { progress: { jobId: job.id, words, done, total } } : {},
  )
}

/** @throws Problem unless it was brought to its end */
function sayEnd({ outcome, result }: JobRow, words: string): void {
  if (outcome === 'stopped')
    throw new Problem(
      'reading-stopped',
      `${words} was stopped, so there is nothing to answer from. Ask again to begin anew.`,
    )
  if (outcome === 'failed') throw new Problem('reading-stopped', `${words} did not come to its end. ${result ?? ''}`)
}
