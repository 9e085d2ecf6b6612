import { availableParallelism } from 'node:os'
import { fileURLToPath } from 'node:url'
import { Worker } from 'node:worker_threads'
import pg from 'pg'
import { readSlice, type Slice } from './slice.ts'

/** Whoever reads and recomputes slices of the ledger, for one check. */
export interface Slices {
  /** So many are done at once; more wait. */
  readonly parallel: number
  /** Saves by their numbers, the last one not included. */
  read(from: bigint, to: bigint): Promise<Slice>
  close(): Promise<void>
}

/** Does it in this thread, on two connections of its own. */
export class SlicesHere implements Slices {
  readonly parallel = 1
  readonly #url: string
  #clients: Promise<[pg.Client, pg.Client]> | null = null
  #last: Promise<unknown> = Promise.resolve()

  constructor(url: string) {
    this.#url = url
  }

  read(from: bigint, to: bigint): Promise<Slice> {
    const slice = this.#last.then(async () => readSlice(await (this.#clients ??= this.#connect()), from, to))
    this.#last = slice.catch(() => undefined)
    return slice
  }

  async #connect(): Promise<[pg.Client, pg.Client]> {
    const one = async () => {
      // Compiling takes longer than it saves here, as everywhere in the ledger.
      const client = new pg.Client({ connectionString: this.#url, application_name: 'spoor checking', options: '-c jit=off' }) // prettier-ignore
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
export interface SliceWanted {
  from: bigint
  to: bigint
}
export type SliceAnswer = { slice: Slice } | { trouble: string }

/** Threads run what was built, also where the rest runs from TypeScript, in tests. */
const threadFile = fileURLToPath(new URL('./slice-thread.js', import.meta.url)).replace(/([\\/])src([\\/]custody[\\/])/, '$1dist$2') // prettier-ignore

/** More than this and the database is what is waited for. */
const mostThreads = 4

interface Waiting extends SliceWanted {
  done(slice: Slice): void
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
      thread.on('message', (answer: SliceAnswer) => this.#answered(thread, answer))
      thread.on('error', (error) => this.#lost(thread, error))
      thread.on('exit', () => this.#lost(thread, new Error('the thread that was reading the ledger stopped')))
      this.#threads.push(thread)
      this.#idle.push(thread)
    }
  }

  read(from: bigint, to: bigint): Promise<Slice> {
    return new Promise((done, failed) => {
      this.#waiting.push({ from, to, done, failed })
      this.#next()
    })
  }

  #next(): void {
    if (this.#threads.length === 0) for (const one of this.#waiting.splice(0)) one.failed(new Error('no thread is left to read the ledger')) // prettier-ignore
    while (this.#idle.length > 0 && this.#waiting.length > 0) {
      const [thread, one] = [this.#idle.pop()!, this.#waiting.shift()!]
      this.#working.set(thread, one)
      thread.postMessage({ from: one.from, to: one.to } satisfies SliceWanted)
    }
  }

  #answered(thread: Worker, answer: SliceAnswer): void {
    const one = this.#working.get(thread)
    this.#working.delete(thread)
    this.#idle.push(thread)
    if ('slice' in answer) one?.done(answer.slice)
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
