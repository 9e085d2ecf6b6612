import type { Database } from '../database/knex.ts'
import { readLastSeq, runningTransactions } from '../capture/outbox.ts'

const lookEveryMs = 10_000

/**
 * Below which number the outbox need not be read again. A number drawn before some moment belongs to a transaction
 * that was running then; once all of those have ended and everything visible below was taken, nothing can appear
 * there any more. Without it, each read would walk over all rows deleted since the source was last vacuumed.
 *
 * The running transactions are asked for by their locks: a snapshot's upper end is one past the highest that has
 * ended, and younger ones that still run, such as a prepared one, may lie above it.
 */
export class Floor {
  readonly #everyMs: number
  #seq = 0n
  #pending: { seq: bigint; running: ReadonlySet<string> } | null = null
  #settled: bigint | null = null
  #lookedMs = Number.NEGATIVE_INFINITY

  constructor(everyMs = lookEveryMs) {
    this.#everyMs = everyMs
  }

  get seq(): bigint {
    return this.#seq
  }

  /** To be called before each read; asks the source now and then. */
  async look(source: Database): Promise<void> {
    this.#settled = null
    if (performance.now() - this.#lookedMs < this.#everyMs) return
    this.#lookedMs = performance.now()
    if (this.#pending === null) {
      // The number first: a transaction that begins after the locks were looked at draws a higher one.
      const seq = await readLastSeq(source)
      this.#pending = { seq, running: await runningTransactions(source) }
      return
    }
    const running = await runningTransactions(source)
    if ([...this.#pending.running].some((transaction) => running.has(transaction))) return
    this.#settled = this.#pending.seq
    this.#pending = null
  }

  /** To be called when all rows of the read have been taken; `complete` when nothing was left unread. */
  took(lastSeq: bigint | null, complete: boolean): void {
    if (this.#settled !== null && (complete || (lastSeq !== null && lastSeq >= this.#settled)))
      this.#seq = this.#settled
  }

  /** Numbers begin again. */
  reset(): void {
    this.#seq = 0n
    this.#pending = this.#settled = null
  }
}
