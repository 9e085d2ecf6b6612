import { availableParallelism } from 'node:os'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import pg from 'pg'
import { ownOptions } from '../database/knex.ts'
import { CountSums, storedCounts } from './count-sums.ts'
import { readSlice, type Slice, type SliceWanted } from './slice.ts'

export interface StoredCounts {
  counts: Uint32Array
  lastSaveId: string
}

/** Whoever reads and recomputes slices of the ledger, for one check. */
export interface Slices {
  /** So many are done at once; more wait. */
  readonly parallel: number
  read(wanted: SliceWanted): Promise<Slice>
  /** The counts that are stored, and the last save that is in them. */
  stored(secret: string): Promise<StoredCounts>
  close(): Promise<void>
}

/** A slice is read along the index: the planner would rather read all of a month, for each of its slices, and sort it. */
const settings = `${ownOptions} -c jit=off -c enable_seqscan=off -c enable_bitmapscan=off -c max_parallel_workers_per_gather=0`

/** Does it in this thread, on two connections of its own. */
export class SlicesHere implements Slices {
  readonly parallel = 1
  readonly #url: string
  #clients: Promise<[pg.Client, pg.Client]> | null = null
  #last: Promise<unknown> = Promise.resolve()

  constructor(url: string) {
    this.#url = url
  }

  read(wanted: SliceWanted): Promise<Slice> {
    return this.#next((clients) => readSlice(clients, wanted))
  }

  stored(secret: string): Promise<StoredCounts> {
    return this.#next(async ([client]) => {
      const sums = new CountSums(secret)
      const lastSaveId = await storedCounts(client, sums)
      return { counts: sums.words, lastSaveId }
    })
  }

  #next<T>(work: (clients: [pg.Client, pg.Client]) => Promise<T>): Promise<T> {
    const done = this.#last.then(async () => work(await (this.#clients ??= this.#connect())))
    this.#last = done.catch(() => undefined)
    return done
  }

  async #connect(): Promise<[pg.Client, pg.Client]> {
    const one = async () => {
      const client = new pg.Client({
        connectionString: this.#url,
        application_name: 'spoor checking',
        options: settings,
      })
      // A connection that breaks makes what is read on it fail.
      client.on('error', () => undefined)
      await client.connect()
      return client
    }
    return await Promise.all([one(), one()])
  }

  async close(): Promise<void> {
    await this.#last
    const clients = await this.#clients?.catch(() => [])
    await Promise.all((clients ?? []).map((client) => client.end().catch(() => undefined)))
  }
}

/** What a thread is asked for, and what it answers. */
export type ThreadWork = { read: SliceWanted } | { stored: string }
export type ThreadAnswer = { done: Slice | StoredCounts } | { trouble: string }

/** Threads run what was built, also where the rest runs from TypeScript, in tests. */
const threadFile = fileURLToPath(new URL('./slice-thread.js', import.meta.url)).replace(
  /([\\/])src([\\/]custody[\\/])/,
  '$1dist$2',
)

/** More than this and the database is what is waited for. */
const mostThreads = 4

interface Waiting {
  work: ThreadWork
  done(answer: Slice | StoredCounts): void
  failed(error: Error): void
}

/** Does it in threads: a slice is mostly hashing. */
export class SliceThreads implements Slices {
  readonly parallel: number
  readonly #idle: Worker[] = []
  readonly #threads: Worker[] = []
  readonly #waiting: Waiting[] = []
  readonly #working = new Map<Worker, Waiting>()

  constructor(url: string, parallel = Math.min(mostThreads, availableParallelism())) {
    this.parallel = parallel
    for (let n = 0; n < parallel; n++) {
      const thread = new Worker(threadFile, { workerData: { url }, execArgv: [] })
      thread.on('message', (answer: ThreadAnswer) => this.#answered(thread, answer))
      thread.on('error', (error) => this.#lost(thread, error))
      thread.on('exit', () => this.#lost(thread, new Error('the thread that was reading the ledger stopped')))
      this.#threads.push(thread)
      this.#idle.push(thread)
    }
  }

  read(wanted: SliceWanted): Promise<Slice> {
    return this.#ask<Slice>({ read: wanted })
  }

  stored(secret: string): Promise<StoredCounts> {
    return this.#ask<StoredCounts>({ stored: secret })
  }

  #ask<T extends Slice | StoredCounts>(work: ThreadWork): Promise<T> {
    return new Promise((done, failed) => {
      this.#waiting.push({ work, done: done as Waiting['done'], failed })
      this.#next()
    })
  }

  #next(): void {
    if (this.#threads.length === 0)
      for (const one of this.#waiting.splice(0)) one.failed(new Error('no thread is left to read the ledger'))
    while (this.#idle.length > 0 && this.#waiting.length > 0) {
      const [thread, one] = [this.#idle.pop()!, this.#waiting.shift()!]
      this.#working.set(thread, one)
      thread.postMessage(one.work)
    }
  }

  #answered(thread: Worker, answer: ThreadAnswer): void {
    const one = this.#working.get(thread)
    this.#working.delete(thread)
    this.#idle.push(thread)
    if ('done' in answer) one?.done(answer.done)
    else one?.failed(new Error(answer.trouble))
    this.#next()
  }

  #lost(thread: Worker, error: Error): void {
    this.#threads.splice(0, this.#threads.length, ...this.#threads.filter((one) => one !== thread))
    this.#idle.splice(0, this.#idle.length, ...this.#idle.filter((one) => one !== thread))
    this.#working.get(thread)?.failed(error)
    this.#working.delete(thread)
    this.#next()
  }

  async close(): Promise<void> {
    await Promise.all(this.#threads.map((thread) => thread.terminate()))
  }
}
