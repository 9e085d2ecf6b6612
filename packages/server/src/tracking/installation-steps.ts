import type { Installation } from '@spoor/contract'
import type { InstallationWatch } from '../capture/install.ts'
import { raiseAlarm } from '../custody/alarms.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

const writeEveryMs = 150

/** Writes down how far an installation is, where every server can read it, and heeds who asks to stop it. */
export class InstallationSteps implements InstallationWatch {
  readonly #db: Database
  readonly #key: { source_id: number; version: number }
  #writtenMs = 0
  constructor(db: Database, sourceId: number, version: number) {
    this.#db = db
    this.#key = { source_id: sourceId, version }
  }

  /** @throws Problem when somebody asked to stop. */
  async step(doing: string, done: number, of: number): Promise<void> {
    if (done > 0 && performance.now() - this.#writtenMs < writeEveryMs) return
    this.#writtenMs = performance.now()
    const [row] = await this.#db('spoor.plan_version')
      .where(this.#key)
      .update({ doing, steps_done: done, steps: of })
      .returning<{ stop_asked: boolean }[]>('stop_asked')
    if (row?.stop_asked)
      throw new Problem(
        'installation-stopped',
        'Putting the plan in force was stopped as asked. The source is as it was and the draft is kept.',
      )
  }

  /** Stays an alarm until a proof has tried every field, or another plan is put in force. */
  async untried(words: string): Promise<void> {
    await raiseAlarm(this.#db, this.#key.source_id, 'capture-untried', words)
  }
}

export async function readInstallation(db: Database, sourceId: number): Promise<Installation> {
  const row = await db('spoor.plan_version')
    .where({ source_id: sourceId, state: 'installing' })
    .first<{ doing: string | null; steps_done: number; steps: number; put_at: string } | undefined>(
      'doing',
      'steps_done',
      'steps',
      'put_at',
    )
  return row
    ? { doing: row.doing ?? 'beginning', done: row.steps_done, of: row.steps, since: row.put_at }
    : { doing: null, done: 0, of: 0, since: null }
}

export async function stopInstallation(db: Database, sourceId: number): Promise<Installation> {
  await db('spoor.plan_version').where({ source_id: sourceId, state: 'installing' }).update({ stop_asked: true })
  return await readInstallation(db, sourceId)
}
