import { setTimeout as sleep } from 'node:timers/promises'
import pg from 'pg'
import { withActor } from '@spoor/client'
import { Chance } from '../larkmere/chance.ts'
import type { DatabaseLogin } from '../larkmere/staff.ts'
import { nextDeed, type Known } from './deeds.ts'

export interface NightJobsOptions {
  /** The business database as each login. */
  urlAs(login: DatabaseLogin): string
  seed: number
  /** Saves to aim at, a minute; up to 30,000. */
  perMinute: number
  /** Connections a login at most. */
  connections?: number
  /** Called with the first failure, in words; the jobs go on. */
  onTrouble?(words: string): void
}

const mostTogether = 48

/**
 * Plays Larkmere's present: officers at the desk, the contractor link, imports, jobs, now and then the supplier's
 * support, rarely a hand in a terminal. Each works through real connections of its own login; what is done next
 * follows from the seed alone.
 */
export class NightJobs {
  readonly #options: NightJobsOptions
  readonly #chance: Chance
  readonly #pools = new Map<DatabaseLogin, pg.Pool>()
  readonly #stop = new AbortController()
  #running: Promise<void> | undefined
  #known: Promise<Known> | undefined
  #done = 0
  #failed = 0

  constructor(options: NightJobsOptions) {
    this.#options = options
    this.#chance = new Chance(options.seed)
  }

  /** Saves made since the start, and attempts that failed. */
  get counts(): { done: number; failed: number } {
    return { done: this.#done, failed: this.#failed }
  }

  start(): void {
    this.#running ??= this.#run()
  }

  async stop(): Promise<void> {
    this.#stop.abort()
    await this.#running
    await Promise.all([...this.#pools.values()].map((pool) => pool.end()))
  }

  async #run(): Promise<void> {
    const everyMs = 60_000 / this.#options.perMinute
    const under = new Set<Promise<void>>()
    let dueMs = performance.now() + everyMs
    while (!this.#stop.signal.aborted) {
      const waitMs = dueMs - performance.now()
      if (waitMs > 1) await this.#pause(waitMs)
      // A pause (a busy machine) is not made up for by a burst.
      if (waitMs < -1000) dueMs = performance.now()
      if (this.#stop.signal.aborted) break
      if (under.size >= mostTogether) await Promise.race(under)
      const doing = this.#one().finally(() => under.delete(doing))
      under.add(doing)
      dueMs += everyMs
    }
    await Promise.all(under)
  }

  async #pause(ms: number): Promise<void> {
    // Ending early because of a stop is no failure.
    await sleep(ms, undefined, { signal: this.#stop.signal }).catch(() => undefined)
  }

  async #one(): Promise<void> {
    try {
      this.#known ??= this.#learn()
      const deed = nextDeed(this.#chance, await this.#known, new Date().toISOString().slice(0, 10))
      const client = await this.#pool(deed.login).connect()
      try {
        if (deed.context) await withActor(client, deed.context, (c) => c.query(deed.statement, deed.values))
        else await client.query(deed.statement, deed.values)
      } finally {
        client.release()
      }
      this.#done++
    } catch (error) {
      if (this.#stop.signal.aborted) return
      this.#known = undefined
      this.#failed++
      if (this.#failed === 1) this.#options.onTrouble?.((error as Error).message)
      await this.#pause(500)
    }
  }

  #pool(login: DatabaseLogin): pg.Pool {
    let pool = this.#pools.get(login)
    if (!pool) {
      const name = login === 'desk_app' ? 'the desk' : login === 'maint_ro' ? 'psql' : login
      pool = new pg.Pool({
        connectionString: this.#options.urlAs(login),
        max: this.#options.connections ?? 2,
        application_name: name,
      })
      pool.on('error', () => undefined) // A lost connection shows in the next attempt.
      this.#pools.set(login, pool)
    }
    return pool
  }

  async #learn(): Promise<Known> {
    const desk = this.#pool('desk_app')
    const list = async <T>(statement: string) => (await desk.query<{ it: T }>(statement)).rows.map((row) => row.it)
    return {
      homes: await list('select id as it from lettings.home order by id'),
      orders: await list('select id as it from repairs.repair_order order by id desc limit 2000'),
      officers: await list('select full_name as it from reference.officer where left_on is null order by id'),
      tenancies: await list(`select id as it from lettings.tenancy where status = 'active' order by id`),
    }
  }
}
