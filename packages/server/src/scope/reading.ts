import type { Database } from '../database/knex.ts'
import { awaitJob } from '../work/awaiting.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { keepRead } from './held.ts'
import { behind, markNow, markOf, type Kept, type ReadingMark } from './reading-mark.ts'

/** So many saves, or records that were found, are read while somebody waits. */
const mostAtOnce = 20_000

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
    else {
      const words = `Reading what ${field.words} held`
      const told = named ? words : 'Reading what records held'
      const subject = `${kept} of field ${fieldId}`
      await awaitJob(db, { kind: 'reading', subject, words, input: { fieldId, kept } }, { personId, told, named })
    }
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
