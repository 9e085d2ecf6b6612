import { setTimeout as sleep } from 'node:timers/promises'
import type { Logger } from 'pino'
import type { Database } from '../database/knex.ts'
import { Leadership } from '../database/leadership.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { interpret, type CapturedSave, type KnownLogin } from './interpret.ts'
import { emptyOutbox, readOutbox, waitingAfter } from './outbox.ts'
import { CollectorSuperseded, LedgerWriter } from './write.ts'

export interface CollectorDeps {
  db: Database
  sources: Sources
  log: Logger
  fingerprintKey: Buffer
  everyMs: number
  /** Called after each batch that reached the ledger. */
  onCollected(): void
}

const batchRows = 5000
const retryMs = 1000

/** Carries what a source captured into the ledger, exactly once, while it leads among all servers. */
export class Collector {
  readonly #deps: CollectorDeps
  readonly #sourceId: number
  readonly #writer: LedgerWriter
  readonly #stop = new AbortController()
  readonly #lead: Leadership
  #running: Promise<void> | undefined

  constructor(sourceId: number, deps: CollectorDeps) {
    this.#sourceId = sourceId
    this.#deps = deps
    this.#writer = new LedgerWriter(deps.db, deps.fingerprintKey)
    this.#lead = new Leadership(deps.db, `collector of source ${sourceId}`)
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
    while (!this.#stop.signal.aborted) {
      const wait = await this.#round()
      if (wait > 0) await sleep(wait, undefined, { signal: this.#stop.signal }).catch(() => undefined)
    }
  }

  /** One look at the outbox. @returns milliseconds to wait before the next. */
  async #round(): Promise<number> {
    try {
      if (!(await this.#lead.holds())) return retryMs
      return (await this.collectOnce()) === batchRows ? 0 : this.#deps.everyMs
    } catch (error) {
      if (error instanceof CollectorSuperseded) return retryMs
      await this.#complain(error)
      return retryMs
    }
  }

  /** Takes one batch. @returns how many rows were read. */
  async collectOnce(): Promise<number> {
    const { db, sources, onCollected } = this.#deps
    const state = await db('ledger.collector_state')
      .where({ source_id: this.#sourceId })
      .first<{ taken: string[]; batches: string; waiting: string; trouble: string | null }>()
    const source = await sources.connection(this.#sourceId)
    const rows = await readOutbox(source, batchRows)
    if (rows === null) return 0
    const taken = new Set(state.taken)
    const left = rows.filter((row) => taken.has(row.seq)).map((row) => row.seq)
    if (left.length > 0) {
      // A stop between writing the ledger and emptying the outbox: finish the emptying first.
      await emptyOutbox(source, left)
      return batchRows
    }
    if (rows.length === 0) {
      if (state.waiting !== '0' || state.trouble !== null) await this.#note({ waiting: 0, behind_ms: 0, trouble: null })
      return 0
    }
    const logins = await this.#logins()
    const saves: CapturedSave[] = []
    const setAside: { seq: string; why: string; content: string }[] = []
    for (const row of rows) {
      const read = interpret(row, logins)
      if (read.understood) saves.push(read.save)
      else setAside.push({ seq: row.seq, why: read.why, content: JSON.stringify(row) })
    }
    await this.#writer.write({ sourceId: this.#sourceId, batchesSeen: state.batches, saves, setAside })
    await emptyOutbox(
      source,
      rows.map((row) => row.seq),
    )
    const full = rows.length === batchRows
    const last = rows.at(-1)!
    await this.#note({
      waiting: full ? await waitingAfter(source, last.seq) : 0,
      behind_ms: full ? Math.max(0, Math.round(Date.now() - Date.parse(last.captured_at))) : 0,
      trouble:
        setAside.length > 0
          ? `${setAside.length} captured rows could not be understood and were set aside whole`
          : null,
    })
    onCollected()
    return rows.length
  }

  async #logins(): Promise<Map<string, KnownLogin>> {
    const rows = await this.#deps
      .db('spoor.source_login')
      .where({ source_id: this.#sourceId })
      .select<{ login: string; may_declare: boolean; own: boolean }[]>('login', 'may_declare', 'own')
    return new Map(rows.map((row) => [row.login, { mayDeclare: row.may_declare, own: row.own }]))
  }

  async #note(state: { waiting: number; behind_ms: number; trouble: string | null }): Promise<void> {
    await this.#deps.db('ledger.collector_state').where({ source_id: this.#sourceId }).update(state)
  }

  async #complain(error: unknown): Promise<void> {
    const words = isUnreachable(error)
      ? unreachable(error).words
      : 'Collecting failed; it is tried again every second. The server’s log holds the cause.'
    this.#deps.log.error({ err: error, sourceId: this.#sourceId }, 'collecting failed')
    await this.#deps
      .db('ledger.collector_state')
      .where({ source_id: this.#sourceId })
      .update({ trouble: words })
      .catch((second: unknown) => this.#deps.log.error({ err: second }, 'and the ledger cannot be written'))
  }
}
