import { setImmediate as breathe, setTimeout as sleep } from 'node:timers/promises'
import type { Database } from './knex.ts'
import { Leadership } from './leadership.ts'

export interface DutyWork {
  /** One round, only while this server leads. @returns milliseconds to wait before the next */
  round(): Promise<number>
  /** Called instead while another server leads: what is known here grows stale. */
  away?(): void
  failed(error: unknown): void | Promise<void>
  /** To wait after a failure. */
  retryMs: number
}

/** To wait while another server leads. */
const awayMs = 1000

/** Something that one server among all does again and again until it is stopped. */
export class Duty {
  readonly #lead: Leadership
  readonly #work: DutyWork
  readonly #stop = new AbortController()
  #running: Promise<void> | undefined

  constructor(db: Database, name: string, work: DutyWork) {
    this.#lead = new Leadership(db, name)
    this.#work = work
  }

  get stopping(): boolean {
    return this.#stop.signal.aborted
  }

  start(): void {
    this.#running ??= this.#run()
  }

  async stop(): Promise<void> {
    this.#stop.abort()
    await this.#running
    await this.#lead.resign()
  }

  async #run(): Promise<void> {
    while (!this.stopping) {
      const waitMs = await this.#round()
      if (waitMs > 0) await sleep(waitMs, undefined, { signal: this.#stop.signal }).catch(() => undefined)
      else await breathe()
    }
  }

  async #round(): Promise<number> {
    try {
      if (await this.#lead.holds()) return await this.#work.round()
      this.#work.away?.()
      return awayMs
    } catch (error) {
      await this.#work.failed(error)
      return this.#work.retryMs
    }
  }
}
