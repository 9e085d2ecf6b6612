import type { Installation } from '@spoor/contract'
import type { InstallationWatch } from '../capture/install.ts'
import { raiseAlarm } from '../alarms/alarms.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { askToStop, openJob } from '../work/jobs.ts'
import { Stopped, type JobAtWork } from '../work/work.ts'

/** Says how far an installation is, where it is done as a job, and heeds who asks to stop it. */
export class InstallationSteps implements InstallationWatch {
  readonly #db: Database
  readonly #sourceId: number
  readonly #job: JobAtWork | undefined
  constructor(db: Database, sourceId: number, job?: JobAtWork) {
    this.#db = db
    this.#sourceId = sourceId
    this.#job = job
  }

  /** @throws Problem when somebody asked to stop. */
  async step(doing: string, done: number, total: number): Promise<void> {
    await this.#job?.progress({ doing, done, total }).catch((error: unknown) => {
      if (!(error instanceof Stopped)) throw error
      throw new Problem(
        'installation-stopped',
        'Putting the plan in force was stopped as asked. The source is as it was and the draft is kept.',
      )
    })
  }

  /** Stays an alarm until a proof has tried every field, or another plan is put in force. */
  async untried(words: string): Promise<void> {
    await raiseAlarm(this.#db, { code: 'capture-untried', sourceId: this.#sourceId, words })
  }
}

export async function readInstallation(db: Database, sourceId: number): Promise<Installation> {
  const job = await openJob(db, 'installing', `source ${sourceId}`)
  if (!job) return { doing: null, done: 0, of: 0, since: null }
  return { doing: job.doing ?? 'beginning', done: Number(job.done), of: Number(job.total ?? 0), since: job.asked_at }
}

export async function stopInstallation(db: Database, sourceId: number): Promise<Installation> {
  await askToStop(db, 'installing', `source ${sourceId}`)
  return await readInstallation(db, sourceId)
}
