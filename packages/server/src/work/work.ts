import { setTimeout as sleep } from 'node:timers/promises'
import { runOnce, type JobHelpers } from 'graphile-worker'
import type pg from 'pg'
import type { Logger } from 'pino'
import type { JobKind } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Leadership } from '../database/leadership.ts'
import { Problem } from '../errors.ts'
import { enqueue, type JobRow } from './jobs.ts'
import { queueLogger, queuePool, queueSchema } from './queue.ts'

/** Thrown out of a job by its progress when somebody asked to stop it. */
export class Stopped extends Error {}
/** Thrown out of a job when its server stops, or lost it to another; it is begun again elsewhere or later. */
export class Interrupted extends Error {}

export interface JobEnd {
  /** What became of it. */
  words: string
  output?: unknown
}

/** A job in the hands of who carries it. */
export interface JobAtWork {
  readonly id: number
  readonly input: unknown
  /** Who waits for it; somebody may begin to while it goes on. */
  readonly askedBy: number | null
  /** Writes down how far it is. @throws Stopped or Interrupted when it is not to go on */
  progress(now: { done?: number | bigint; total?: number | bigint; doing?: string }): Promise<void>
}

export interface JobHandler {
  kind: JobKind
  perform(job: JobAtWork): Promise<JobEnd>
  /** Asks for one when it is time. */
  due?(db: Database): Promise<void>
  /** Puts right what it leaves when it ends otherwise than done; before that is written down. */
  afterwards?(db: Database, job: JobRow, outcome: 'stopped' | 'failed', words: string): Promise<void>
}

export interface WorkDeps {
  db: Database
  databaseUrl: string
  log: Logger
  handlers: readonly JobHandler[]
}

const atOnce = 3
const lookEveryMs = 3000
const writeEveryMs = 200
/** A failure that nobody foresaw may pass; so often a job is begun before it is said to have failed. */
const tries = 4
/** So long a job waits at most before it is begun, where there is room. */
const waitMs = 250

/** Carries long work: jobs are kept, begun again after a stop, stopped when asked, and their failures are said. */
export class Work {
  readonly #db: Database
  readonly #log: Logger
  readonly #handlers: ReadonlyMap<JobKind, JobHandler>
  readonly #pool: pg.Pool
  readonly #closing = new AbortController()
  readonly #workers = new Set<Promise<void>>()
  #running: Promise<void> | undefined

  constructor({ db, databaseUrl, log, handlers }: WorkDeps) {
    this.#db = db
    this.#log = log
    this.#handlers = new Map(handlers.map((handler) => [handler.kind, handler]))
    this.#pool = queuePool(databaseUrl, atOnce)
    this.#pool.on('error', (error) => log.warn({ err: error }, 'a connection of the queue was lost'))
  }

  /** One worker that ends when nothing waits. It holds no connection between jobs, so it can lose none. */
  async #worker(): Promise<void> {
    await runOnce({
      pgPool: this.#pool,
      schema: queueSchema,
      logger: queueLogger(this.#log),
      noHandleSignals: true,
      concurrency: 1,
      taskList: Object.fromEntries(
        [...this.#handlers.values()].map((handler) => [
          handler.kind,
          (payload: unknown, helpers: JobHelpers) => this.#carry(handler, (payload as { id: number }).id, helpers),
        ]),
      ),
    })
  }

  async start(): Promise<void> {
    await this.look()
    this.#running = this.#run()
  }

  /** Workers come and go with what waits: a lasting one of the queue's own stops for good when it misses the database. */
  async #run(): Promise<void> {
    const { signal } = this.#closing
    let lookedMs = performance.now()
    while (!signal.aborted) {
      try {
        if (performance.now() - lookedMs > lookEveryMs) {
          await this.look()
          lookedMs = performance.now()
        }
        if (this.#workers.size < atOnce && (await this.#waits())) this.#employ()
      } catch (error) {
        this.#log.warn({ err: error }, 'long work could not be looked at')
      }
      await sleep(waitMs, undefined, { signal }).catch(() => undefined)
    }
    await Promise.all(this.#workers)
  }

  /** Whether there is a job that nobody carries and that this server knows how to do. */
  async #waits(): Promise<boolean> {
    const row = await this.#db('spoor.job')
      .where({ ended_at: null, worker: null })
      .whereIn('kind', [...this.#handlers.keys()])
      .first('id')
    return row !== undefined
  }

  #employ(): void {
    const worker = this.#worker()
      .catch((error: unknown) => this.#log.warn({ err: error }, 'a worker was lost, and the next goes on'))
      .finally(() => this.#workers.delete(worker))
    this.#workers.add(worker)
  }

  /** Does everything that waits, here and now. */
  async once(): Promise<void> {
    await this.look()
    await this.#worker()
  }

  async stop(): Promise<void> {
    this.#closing.abort()
    await this.#running
    await this.#pool.end()
  }

  /** Asks for what is due, and has what a server that stopped left behind begun again. */
  async look(): Promise<void> {
    for (const handler of this.#handlers.values()) await handler.due?.(this.#db)
    const begun = await this.#db<JobRow>('spoor.job')
      .whereNull('ended_at')
      .whereNotNull('worker')
      .select('id', 'kind', 'worker')
    for (const { id, kind, worker } of begun) {
      const lead = this.#lead(id)
      if (!(await lead.holds())) continue
      try {
        await this.#db.raw(`select ${queueSchema}.force_unlock_workers(array[?::text])`, [worker])
        await this.#db('spoor.job').where({ id, worker }).update({ worker: null })
        await enqueue(this.#db, { id, kind })
      } finally {
        await lead.resign()
      }
    }
  }

  /** Held by whoever carries a job; gone with the server that held it. */
  #lead(id: number): Leadership {
    return new Leadership(this.#db, `job ${id}`)
  }

  async #carry(handler: JobHandler, id: number, { job: { locked_by: worker, attempts } }: JobHelpers): Promise<void> {
    const lead = this.#lead(id)
    if (!(await lead.holds())) throw new Interrupted('Another server has this job.')
    try {
      const [row] = await this.#db('spoor.job')
        .where({ id, ended_at: null })
        .update({ worker, began_at: this.#db.raw('coalesce(began_at, clock_timestamp())'), doing: null })
        .returning<JobRow[]>('*')
      if (row) await this.#perform(handler, row, lead, attempts)
    } finally {
      await lead.resign()
    }
  }

  async #perform(handler: JobHandler, row: JobRow, lead: Leadership, attempts: number): Promise<void> {
    try {
      const { words, output } = await handler.perform(this.#atWork(row, lead))
      await this.#end(row, 'done', words, { output: output === undefined ? null : JSON.stringify(output) })
    } catch (error) {
      // It stays as carried by a worker that is gone, so that whoever looks next has it begun again at once.
      if (error instanceof Interrupted || this.#closing.signal.aborted) throw error
      const asked = await this.#db('spoor.job').where({ id: row.id }).first<{ stop_asked: boolean }>('stop_asked')
      const words = (error as Error).message
      const outcome = error instanceof Stopped || asked?.stop_asked ? 'stopped' : 'failed'
      if (outcome === 'failed' && !(error instanceof Problem) && attempts < tries) {
        this.#log.warn({ err: error, kind: row.kind }, 'long work was broken off and begins again')
        await this.#db('spoor.job').where({ id: row.id, worker: row.worker }).update({ result: words, worker: null })
        throw error
      }
      if (outcome === 'failed') this.#log.error({ err: error, kind: row.kind }, 'long work failed')
      await handler.afterwards?.(this.#db, row, outcome, words)
      await this.#end(row, outcome, words, { problem: error instanceof Problem ? error.code : null })
    }
  }

  /** Whoever lost the job to another meanwhile has nothing to say about it. */
  async #end(row: JobRow, outcome: JobRow['outcome'], words: string, more: object): Promise<void> {
    await this.#db('spoor.job')
      .where({ id: row.id, worker: row.worker, ended_at: null })
      .update({ ended_at: this.#db.fn.now(), outcome, result: words, worker: null, doing: null, ...more })
  }

  #atWork(row: JobRow, lead: Leadership): JobAtWork {
    const db = this.#db
    const closing = this.#closing.signal
    let writtenMs = 0
    let askedBy = row.asked_by
    return {
      id: row.id,
      input: row.input,
      get askedBy() {
        return askedBy
      },
      async progress({ done, total, doing }) {
        if (closing.aborted) throw new Interrupted('The server stops.')
        const nowMs = performance.now()
        if (nowMs - writtenMs < writeEveryMs) return
        writtenMs = nowMs
        if (!(await lead.holds())) throw new Interrupted('The job was lost.')
        const [now] = await db('spoor.job')
          .where({ id: row.id })
          .update({
            ...(done === undefined ? {} : { done: String(done) }),
            ...(total === undefined ? {} : { total: String(total) }),
            ...(doing === undefined ? {} : { doing }),
          })
          .returning<JobRow[]>('*')
        askedBy = now?.asked_by ?? null
        if (now?.stop_asked) throw new Stopped('Stopped before it was done.')
      },
    }
  }
}
