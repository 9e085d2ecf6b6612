import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import type { Sources } from '../sources/registry.ts'
import { ask, endOf, type JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { busy, putInForce, settleInstallations } from './put-in-force.ts'

interface Wish {
  sourceId: number
  revision: number
  reason: string
  person: Pick<SignedIn, 'id' | 'role'>
}

/** Puts drafts in force, one in each source at a time. */
export class Installing implements JobHandler {
  readonly kind = 'installing'
  readonly #db: Database
  readonly #sources: Sources
  constructor(db: Database, sources: Sources) {
    this.#db = db
    this.#sources = sources
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const { sourceId, revision, reason, person } = job.input as Wish
    const planVersion =
      (await this.#before(job, sourceId)) ??
      (await putInForce(this.#db, this.#sources, sourceId, revision, reason, person, job))
    await recordEvent(this.#db, {
      kind: 'tracking',
      personId: person.id,
      sourceId,
      words: `put plan ${planVersion} in force`,
    })
    return { words: `Plan ${planVersion} is in force.`, output: { planVersion } }
  }

  /** What this job had put in force before its server stopped. */
  async #before(job: JobAtWork, sourceId: number): Promise<number | undefined> {
    await settleInstallations(this.#db, this.#sources, sourceId)
    const row = await this.#db('spoor.plan_version')
      .where({ job_id: job.id })
      .whereIn('state', ['in force', 'superseded'])
      .first<{ version: number } | undefined>('version')
    return row?.version
  }

  async afterwards(db: Database, job: JobRow): Promise<void> {
    const { sourceId, person } = job.input as Wish
    const words = 'tried to put a plan in force'
    await recordEvent(db, { kind: 'tracking', personId: person.id, sourceId, outcome: 'refused', words })
  }
}

/**
 * Asks for a draft to be put in force and waits for it; it goes on when whoever asked has gone.
 * @returns the new plan version.
 * @throws Problem when it was refused, or another one is being put in force there
 */
export async function installDraft(db: Database, wish: Wish): Promise<number> {
  const source = await db('spoor.source').where({ id: wish.sourceId }).first<{ name: string } | undefined>('name')
  if (!source) throw new Problem('not-found', 'There is no such source.')
  const { job, fresh } = await db.transaction((trx) =>
    ask(trx, {
      kind: 'installing',
      subject: `source ${wish.sourceId}`,
      words: `Putting a tracking plan in force in ${source.name}`,
      input: wish,
      personId: wish.person.id,
    }),
  )
  if (!fresh) throw busy()
  const { output } = await endOf(db, job.id)
  return (output as { planVersion: number }).planVersion
}
