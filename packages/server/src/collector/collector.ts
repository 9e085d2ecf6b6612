import type { Logger } from 'pino'
import { overAlarms, raiseAlarm } from '../alarms/alarms.ts'
import { boundArray, isAfter, type Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import type { Sources } from '../sources/registry.ts'
import { ownInstallation } from '../ledger/installation.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { Floor } from './floor.ts'
import { knownIdentities } from '../people/identities.ts'
import type { Known } from './interpret.ts'
import { RecordNames } from '../capture/record-names.ts'
import { emptyOutbox, readHead, readOutbox, type OutboxHead, type OutboxRow } from '../capture/outbox.ts'
import { Preparer, type Prepared } from './prepare.ts'
import { CollectorSuperseded, LedgerWriter } from './write.ts'
import { Yielding } from './yielding.ts'

export interface CollectorDeps {
  db: Database
  sources: Sources
  log: Logger
  fingerprintKey: Buffer
  everyMs: number
  /** How often the source is asked which rows can no longer appear; every ten seconds unless said. */
  floorEveryMs?: number
  /** How long collecting may fail before it is an alarm; half a minute unless said. */
  patienceMs?: number
  /** Called after each batch that reached the ledger. */
  onCollected(): void
}

const maxRows = 10_000
const maxBytes = 16 * 1024 * 1024
const mostAhead = 10
const retryMs = 1000
const patienceMs = 30_000

interface Read {
  rows: readonly OutboxRow[]
  prepared: Prepared
}

interface State {
  batches: string
  waiting: string
  trouble: string | null
  high_seq: string
  last_at: string | null
}

/** Carries what a source captured into the ledger, exactly once, while it leads among all servers. */
export class Collector {
  readonly #deps: CollectorDeps
  readonly #sourceId: number
  readonly #preparer: Preparer
  readonly #writer: LedgerWriter
  readonly #duty: Duty
  readonly #floor: Floor
  #epoch: string | null = null
  #installation: string | null = null
  /** The next rows, being read and prepared already, and how many batches in a row were read like that. */
  #ahead: { read: Promise<Read>; times: number } | null = null
  /** Rows that are in the ledger and are being taken out of the outbox. */
  #emptying: Promise<void> | null = null
  readonly #yielding = new Yielding()
  /** How old the newest row was that the last round took. */
  #behindMs = 0
  /** Since when nothing could be collected; whether that was so when the last server stopped is found out first. */
  #failingSinceMs: number | null = Number.POSITIVE_INFINITY

  constructor(sourceId: number, deps: CollectorDeps) {
    this.#sourceId = sourceId
    this.#deps = deps
    this.#preparer = new Preparer(deps.db, sourceId, deps.fingerprintKey, new RecordNames(deps.db, deps.sources))
    this.#writer = new LedgerWriter(deps.db)
    this.#floor = new Floor(deps.floorEveryMs)
    this.#duty = new Duty(deps.db, `collector of source ${sourceId}`, {
      round: () => this.#round(),
      // Whoever leads meanwhile may see the source come back older; what is known here would be stale then.
      away: () => this.#forget(),
      failed: async (error) => {
        if (!(error instanceof CollectorSuperseded)) await this.#complain(error)
      },
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  async stop(): Promise<void> {
    await this.#duty.stop()
    // What it cannot take out now is known to be in the ledger at the next start.
    await this.#emptied().catch(() => undefined)
  }

  /** One look at the source. @returns milliseconds to wait before the next. */
  async #round(): Promise<number> {
    const began = performance.now()
    const rows = await this.collectOnce()
    await this.#works()
    if (rows === 0) return this.#deps.everyMs
    return this.#yielding.restMs(performance.now() - began, this.#behindMs)
  }

  /** What was known of the source is no longer to be relied on. */
  #forget(): void {
    this.#floor.reset()
    this.#ahead = null
  }

  /** Takes one batch. @returns how many rows it dealt with. */
  async collectOnce(): Promise<number> {
    try {
      return await this.#collect()
    } catch (error) {
      this.#ahead = null
      throw error
    }
  }

  async #collect(): Promise<number> {
    const source = await this.#deps.sources.connection(this.#sourceId)
    const head = await readHead(source)
    if (head === null) return 0
    if (head.epoch !== this.#epoch || head.lastSeq < this.#floor.seq) this.#forget()
    this.#epoch = head.epoch
    const state = await this.#state()
    const obstacle = await this.#strange(head, state)
    if (obstacle !== null) {
      if (state.trouble !== obstacle) await this.#note({ trouble: obstacle })
      this.#ahead = null
      return 0
    }
    const ahead = this.#ahead
    this.#ahead = null
    if (ahead === null) {
      await this.#emptied()
      await this.#floor.look(source)
    }
    const { rows, prepared } = await (ahead?.read ?? this.#read(source, this.#floor.seq))
    const left = await this.#takenAlready(rows, state)
    if (left.length > 0) {
      // A stop between writing the ledger and emptying the outbox: finish the emptying first.
      await emptyOutbox(source, left)
      return left.length
    }
    if (rows.length > 0) {
      this.#readAhead(source, { rows, prepared }, ahead?.times ?? 0)
      await this.#take(source, { rows, prepared }, state, head)
    } else await this.#rest(state)
    // Only a read that began after the look can say that nothing below is missing.
    if (ahead === null) this.#floor.took(rows.length > 0 ? BigInt(rows.at(-1)!.seq) : null, rows.length === 0)
    return rows.length
  }

  async #read(source: Database, afterSeq: bigint, earlier?: Prepared): Promise<Read> {
    const [rows, known] = await Promise.all([readOutbox(source, { afterSeq, maxRows, maxBytes }), this.#known()])
    return { rows, prepared: await this.#preparer.prepare(rows, known, earlier?.saves) }
  }

  /** While a full batch is written the next is read and prepared, so that neither database waits for the other. */
  #readAhead(source: Database, { rows, prepared }: Read, times: number): void {
    // Rows of transactions that ended late lie below; a read from the floor takes them now and then.
    if (rows.length < maxRows || times >= mostAhead) return
    const next = this.#read(source, BigInt(rows.at(-1)!.seq), prepared)
    // What goes wrong is met when the rows are wanted, which may be never.
    next.catch(() => undefined)
    this.#ahead = { read: next, times: times + 1 }
  }

  /** @throws what went wrong when rows were taken out of the outbox: they are met again by the next read. */
  async #emptied(): Promise<void> {
    const emptying = this.#emptying
    this.#emptying = null
    await emptying
  }

  async #state(): Promise<State> {
    return await this.#deps.db('ledger.collector_state').where({ source_id: this.#sourceId }).first<State>()
  }

  /** Whether this is another database, or the same one come back older. @returns words when nothing may be taken. */
  async #strange(head: OutboxHead, state: State): Promise<string | null> {
    const { db } = this.#deps
    this.#installation ??= await ownInstallation(db)
    if (head.installation !== null && head.installation !== this.#installation) {
      const words =
        'Another Spoor collects from this database. Nothing is taken from it here, since each would take what the other is to have.'
      await raiseAlarm(db, { code: 'source-replaced', sourceId: this.#sourceId, words })
      return words
    }
    const { epoch } = await db('spoor.source').where({ id: this.#sourceId }).first<{ epoch: string | null }>('epoch')
    if (epoch !== null && epoch !== head.epoch) {
      const words =
        'The database at this address is not the one that was tracked, or its capture was removed and made anew. Nothing is collected from it until a plan is put in force there again.'
      await raiseAlarm(db, { code: 'source-replaced', sourceId: this.#sourceId, words })
      return words
    }
    if (epoch === null) await db('spoor.source').where({ id: this.#sourceId }).update({ epoch: head.epoch })
    if (head.lastSeq < BigInt(state.high_seq)) {
      const words = `The source came back older than it was, as from a backup: it has drawn number ${head.lastSeq}, and number ${state.high_seq} was collected before. The trail keeps what it has; what the source lost shows as values that do not join.`
      await raiseAlarm(db, { code: 'source-older', sourceId: this.#sourceId, words })
      this.#forget()
      await db('ledger.collector_state')
        .where({ source_id: this.#sourceId })
        .update({ high_seq: head.lastSeq.toString() })
    }
    return null
  }

  /**
   * Rows that are in the ledger already: of a batch that was written and not yet emptied when a server stopped, or of
   * a source that was restored. Of a transaction everything up to the highest number taken was taken, since it
   * becomes visible at once and is read in order. The hour allows for what was folded into one save; it keeps a
   * transaction number that a restored source draws a second time from being taken for the first.
   */
  async #takenAlready(rows: readonly OutboxRow[], state: State): Promise<string[]> {
    const doubtful = rows.filter((row) => state.last_at !== null && !isAfter(row.captured_at, state.last_at))
    if (doubtful.length === 0) return []
    const transactions = boundArray([...new Set(doubtful.map((row) => row.transaction_id))])
    const earliest = doubtful.reduce(
      (least, row) => (isAfter(least, row.captured_at) ? row.captured_at : least),
      doubtful[0]!.captured_at,
    )
    const { rows: found } = await this.#deps.db.raw<{ rows: { transaction_id: string; seq: string }[] }>(
      `select t.transaction_id, s.outbox_seq::text as seq
         from unnest(?::text[]) as t(transaction_id)
         cross join lateral (select outbox_seq from ledger.save
                              where source_id = ? and transaction_id = t.transaction_id
                                and captured_at >= ?::timestamptz - interval '1 hour'
                              order by outbox_seq desc limit 1) s
       union all
       select content::json ->> 'transaction_id', max(outbox_seq)::text from ledger.set_aside
        where source_id = ? and outbox_seq = any(?::bigint[]) group by 1`,
      [transactions, this.#sourceId, earliest, this.#sourceId, boundArray(doubtful.map((row) => row.seq))],
    )
    const upTo = new Map<string, bigint>()
    for (const { transaction_id, seq } of found)
      upTo.set(transaction_id, BigInt(seq) > (upTo.get(transaction_id) ?? 0n) ? BigInt(seq) : upTo.get(transaction_id)!)
    return doubtful.filter((row) => BigInt(row.seq) <= (upTo.get(row.transaction_id) ?? 0n)).map((row) => row.seq)
  }

  async #take(source: Database, { rows, prepared }: Read, state: State, head: OutboxHead): Promise<void> {
    const { setAside } = prepared
    await this.#writer.write({ sourceId: this.#sourceId, batchesSeen: state.batches, prepared })
    await this.#emptied()
    const emptying = emptyOutbox(
      source,
      rows.map((row) => row.seq),
    )
    emptying.catch(() => undefined)
    this.#emptying = emptying
    // Another batch does not wait for it; whoever is told that there is no more finds the outbox empty.
    if (this.#ahead === null) await this.#emptied()
    const last = rows.at(-1)!
    this.#behindMs = Date.now() - Date.parse(last.captured_at)
    const waiting = head.lastSeq > BigInt(last.seq) ? head.lastSeq - BigInt(last.seq) : 0n
    const aside =
      setAside.length > 0 ? `${setAside.length} captured rows could not be understood and were set aside whole` : null
    await this.#note({
      waiting: waiting.toString(),
      behind_ms: waiting > 0n ? Math.max(0, Math.round(Date.now() - Date.parse(last.captured_at))) : 0,
      trouble: aside,
    })
    this.#deps.onCollected()
  }

  async #rest(state: State): Promise<void> {
    if (state.waiting !== '0' || state.trouble !== null) await this.#note({ waiting: '0', behind_ms: 0, trouble: null })
  }

  async #known(): Promise<Known> {
    const rows = await this.#deps
      .db('spoor.source_login')
      .where({ source_id: this.#sourceId })
      .select<{ login: string; may_declare: boolean; own: boolean }[]>('login', 'may_declare', 'own')
    return {
      logins: new Map(rows.map((row) => [row.login, { mayDeclare: row.may_declare, own: row.own }])),
      identities: await knownIdentities(this.#deps.db, this.#sourceId),
    }
  }

  async #note(state: { waiting?: string; behind_ms?: number; trouble: string | null }): Promise<void> {
    await this.#deps.db('ledger.collector_state').where({ source_id: this.#sourceId }).update(state)
  }

  /** What kept it from collecting is over. */
  async #works(): Promise<void> {
    if (this.#failingSinceMs === null) return
    this.#failingSinceMs = null
    for (const code of ['source-unreachable', 'collecting-failed'] as const)
      await overAlarms(this.#deps.db, this.#sourceId, code)
  }

  async #complain(error: unknown): Promise<void> {
    const words = isUnreachable(error)
      ? unreachable(error).words
      : 'Collecting failed; it is tried again every second. The server’s log holds the cause.'
    this.#deps.log.error({ err: error, sourceId: this.#sourceId }, 'collecting failed')
    const nowMs = performance.now()
    this.#failingSinceMs = Math.min(this.#failingSinceMs ?? nowMs, nowMs)
    try {
      await this.#note({ trouble: words })
      if (nowMs - this.#failingSinceMs >= (this.#deps.patienceMs ?? patienceMs))
        await raiseAlarm(this.#deps.db, {
          code: isUnreachable(error) ? 'source-unreachable' : 'collecting-failed',
          sourceId: this.#sourceId,
          words,
        })
    } catch (second) {
      this.#deps.log.error({ err: second }, 'and the ledger cannot be written')
    }
  }
}
