import { grouped } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { ask, endWithin, openJob, type JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { keepRead } from './held.ts'
import { behind, markNow, markOf, type Kept, type ReadingMark } from './reading-mark.ts'

/** So many saves, or records that were found, are read while somebody waits. */
const mostAtOnce = 20_000
/** So long a request waits for a reading before it says how far that is. */
const patienceMs = 1500
/** So long a stop is said to all who still wait. */
const saidForSeconds = 3

export interface Asking {
  personId: number | null
  /** Whether whoever asks may be told what is read. */
  named?: boolean
}

/**
 * Brings what fields held up to now for somebody who waits: at once where that is short, else as a job.
 * @throws Problem `being-read` while that goes on; whoever asks again goes on waiting
 */
export async function keepSoon(
  db: Database,
  fieldIds: readonly number[],
  { personId, named = true }: Asking,
  kept: Kept = 'spoor.held',
): Promise<void> {
  if (fieldIds.length === 0) return
  for (const fieldId of await behind(db, fieldIds, kept)) {
    const field = await fieldCalled(db, fieldId)
    if (!field) continue
    if (await isShort(db, field.typeId, fieldId, kept)) await keepRead(db, [fieldId], kept)
    else await awaitReading(db, { fieldId, kept, words: `Reading what ${field.words} held` }, { personId, named })
  }
}

async function fieldCalled(db: Database, fieldId: number): Promise<{ typeId: number; words: string } | undefined> {
  const field = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('f.id', fieldId)
    .first<{ typeId: number; name: string; plural: string } | undefined>('f.type_id as typeId', 'f.name', 't.plural')
  return field && { typeId: field.typeId, words: `${field.name} of ${field.plural}` }
}

/** Whether so little came since it was read, or there is so little at all, that it is read while somebody waits. */
async function isShort(db: Database, typeId: number, fieldId: number, kept: Kept): Promise<boolean> {
  return await db.transaction(async (trx) => {
    const [read, now] = [await markOf(trx, kept, fieldId), await markNow(trx, typeId)]
    const from = read?.coverage === now.coverage ? read : { read_save: '0', places: {} as ReadingMark['places'] }
    const found = Object.entries(now.places).map(([taking, place]) => Number(place) - Number(from.places[taking] ?? -1))
    if (found.reduce((sum, many) => sum + many, 0) > mostAtOnce) return false
    const some = trx('ledger.save')
      .where({ type_id: typeId })
      .where('id', '>', from.read_save)
      .limit(mostAtOnce + 1)
      .select('id')
    const [row] = await trx.from(some.as('some')).count<{ count: string }[]>('* as count')
    return Number(row!.count) <= mostAtOnce
  })
}

interface ReadingWish {
  fieldId: number
  kept: Kept
  words: string
}

async function awaitReading(
  db: Database,
  { fieldId, kept, words }: ReadingWish,
  { personId, named }: Asking,
): Promise<void> {
  const subject = `${kept} of field ${fieldId}`
  const told = named ? words : 'Reading what records held'
  const going = await openJob(db, 'reading', subject)
  if (!going) {
    const ended = await db('spoor.job')
      .where({ kind: 'reading', subject })
      .whereNot('outcome', 'done')
      .whereRaw('ended_at > clock_timestamp() - make_interval(secs => ?)', [saidForSeconds])
      .orderBy('id', 'desc')
      .first<JobRow | undefined>()
    if (ended) return sayEnd(ended, told)
  }
  const job =
    going ??
    (await db.transaction((trx) => ask(trx, { kind: 'reading', subject, words, input: { fieldId, kept }, personId })))
      .job
  const end = await endWithin(db, job.id, patienceMs)
  if (end) return sayEnd(end, told)
  const now = await db('spoor.job').where({ id: job.id }).first<JobRow>()
  const [done, total] = [Number(now.done), now.total === null ? null : Number(now.total)]
  const far = total === null ? '' : `: ${grouped(done)} of ${grouped(total)} saves`
  throw new Problem(
    'being-read',
    `${told}${named ? far : ''}. What was asked for comes when that is done; later it is there at once.`,
    named ? { progress: { jobId: job.id, words, done, total } } : {},
  )
}

/** @throws Problem unless it was read to its end */
function sayEnd({ outcome, result }: JobRow, words: string): void {
  if (outcome === 'stopped')
    throw new Problem(
      'reading-stopped',
      `${words} was stopped, so there is nothing to answer from. Ask again to begin anew.`,
    )
  if (outcome === 'failed') throw new Problem('reading-stopped', `${words} did not come to its end. ${result ?? ''}`)
}

/** Reads, as a job, what a field of every record held. */
export class Reading implements JobHandler {
  readonly kind = 'reading'
  readonly #db: Database

  constructor(db: Database) {
    this.#db = db
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const { fieldId, kept } = job.input as { fieldId: number; kept: Kept }
    const field = await fieldCalled(this.#db, fieldId)
    if (!field) return { words: 'The field is gone.' }
    const [row] = await this.#db('ledger.save')
      .where({ type_id: field.typeId })
      .count<{ count: string }[]>('* as count')
    const total = Number(row!.count)
    await job.progress({ done: 0, total, doing: 'putting the saves in order' })
    await keepRead(this.#db, [fieldId], kept, (done) =>
      job.progress({ done, total: Math.max(done, total), doing: 'reading saves' }),
    )
    return { words: `What ${field.words} held is read.` }
  }
}
