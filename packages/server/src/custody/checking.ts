import { counted } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { recordEvent } from '../ledger/events.ts'
import { ask, type JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { LedgerCheck } from './check.ts'
import type { OutsideSeals } from './outside.ts'
import type { Slices } from './slices.ts'
import { extentOf } from './tree.ts'

export interface CheckRow {
  id: number
  job_id: number | null
  began_at: string
  ended_at: string | null
  asked_by: number | null
  total: string
  found: number
  trouble: string | null
}

export interface CheckingDeps {
  db: Database
  outside: OutsideSeals
  evidenceKey: Buffer
  /** Of one check, which closes them. */
  openSlices(): Slices
}

/** A whole check begins so long after the last one ended. */
const everyMs = 24 * 3_600_000
/** There is one ledger. */
export const wholeLedger = 'ledger'

/** Checks the whole ledger, every day at an easy pace, and at once when somebody asks. */
export class Checking implements JobHandler {
  readonly kind = 'checking'
  readonly #deps: CheckingDeps
  constructor(deps: CheckingDeps) {
    this.#deps = deps
  }

  async due(db: Database): Promise<void> {
    const last = await db<CheckRow>('spoor.ledger_check').orderBy('id', 'desc').first()
    if (last && (last.ended_at === null || Date.now() - Date.parse(last.ended_at) < everyMs)) return
    // There is nothing to check before there is something to check it against.
    if (!(await db('ledger.seal').first('number'))) return
    await db.transaction((trx) => begin(trx, null))
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const { db, outside, evidenceKey } = this.#deps
    const row = (await db<CheckRow>('spoor.ledger_check').where({ job_id: job.id }).first())!
    const slices = this.#deps.openSlices()
    const check = new LedgerCheck({
      db,
      outside,
      evidenceKey,
      slices,
      checkId: row.id,
      hurried: () => job.askedBy !== null,
      onProgress: (done) => job.progress({ done, doing: 'comparing saves, changes and counts with their seals' }),
    })
    const found = await check.check().finally(() => slices.close())
    await db('spoor.ledger_check').where({ id: row.id }).update({ ended_at: db.fn.now(), found })
    const words =
      found === 0
        ? 'everything matches its seals'
        : `${counted(found, 'place')} ${found === 1 ? 'does' : 'do'} not match`
    await recordEvent(db, { kind: 'custody', personId: job.askedBy, words: `checked the whole ledger: ${words}` })
    return { words: `${words[0]!.toUpperCase()}${words.slice(1)}.` }
  }

  async afterwards(db: Database, job: JobRow, outcome: 'stopped' | 'failed', words: string): Promise<void> {
    await db('spoor.ledger_check')
      .where({ job_id: job.id })
      .update({ ended_at: db.fn.now(), trouble: outcome === 'stopped' ? 'Stopped before it was done.' : words })
  }
}

async function begin(trx: Knex.Transaction, personId: number | null): Promise<void> {
  const { size } = await extentOf(trx)
  const { job, fresh } = await ask(trx, {
    kind: 'checking',
    subject: wholeLedger,
    words: 'Checking the whole ledger',
    personId,
    total: size,
  })
  if (fresh) await trx('spoor.ledger_check').insert({ job_id: job.id, asked_by: personId, total: size })
  else if (personId !== null) {
    await trx('spoor.job').where({ id: job.id }).update({ asked_by: personId })
    await trx('spoor.ledger_check').where({ job_id: job.id }).update({ asked_by: personId })
  }
}

/** Somebody wants to know now: a check that goes on hurries, else one begins. */
export async function askForCheck(db: Database, personId: number): Promise<void> {
  await db.transaction((trx) => begin(trx, personId))
}
