import {
  canonicalJson,
  chainBegin,
  chained,
  checkpointText,
  consistencyProof,
  keyLine,
  provesConsistency,
  signedNote,
  type NoteKey,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { Logger } from 'pino'
import type { Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { ownInstallation } from '../ledger/installation.ts'
import { keepMismatch } from '../alarms/mismatch.ts'
import type { OutsideSeals } from './outside.ts'
import { sha256 } from '../ledger/sha256.ts'
import type { SigningKey } from './signing-key.ts'
import { extentOf, MissingLeaf, MissingNode, Tree } from './tree.ts'

export interface SealRow {
  number: string
  sealed_at: string
  size: string
  root: Buffer
  events: string
  events_transaction: string
  events_id: string
  events_end: Buffer
  note: string
}

export interface EventRow {
  id: string
  transaction: string
  at: string
  kind: string
  outcome: string
  person_id: number | null
  source_id: number | null
  words: string
  address: string | null
}

export interface SealerDeps {
  db: Database
  key: SigningKey
  outside: OutsideSeals
  log: Logger
  /** Time between seals while there is something to seal; a minute unless said. */
  everyMs?: number
  /** Whether somebody waits for the next seal; then everything is sealed at the next look. */
  wanted?: () => Promise<boolean>
  /** So many saves are sealed at once, without waiting; 10,000 unless said. */
  everySaves?: number
}

const lookEveryMs = 1000
const retryMs = 10_000
/** One seal covers no more, so that a long backlog is sealed in steps. */
const mostAtOnce = 50_000

/** The canonical form of an event, for the chain (docs/proof.md, rule 9). */
export function canonicalEvent(event: EventRow): string {
  return canonicalJson({
    id: event.id,
    transaction: event.transaction,
    at: event.at,
    kind: event.kind,
    outcome: event.outcome,
    personId: event.person_id,
    sourceId: event.source_id,
    words: event.words,
    address: event.address,
  })
}

/** Which ledger it is: the same name is in every seal and before every signature. */
export async function originOf(db: Database): Promise<string> {
  return `spoor/${await ownInstallation(db)}`
}

export async function latestSeal(db: Knex): Promise<SealRow | undefined> {
  return await db<SealRow>('ledger.seal').orderBy('number', 'desc').first()
}

/** Events after a place in their chain, of transactions older than every one that still runs. */
export async function eventsAfter(db: Knex, transaction: string, id: string, limit: number): Promise<EventRow[]> {
  const { rows } = await db.raw<{ rows: EventRow[] }>(
    `select e.id::text, e.transaction::text, e.at, e.kind, e.outcome, e.person_id, e.source_id, e.words, e.address from ledger.event e
      where (e.transaction, e.id) > (?::xid8, ?::bigint) and e.transaction < pg_snapshot_xmin(pg_current_snapshot())
      -- By the numbers: the bare names would mean the texts that are returned.
      order by e.transaction, e.id limit ?`,
    [transaction, id, limit],
  )
  return rows
}

/** Seals the ledger at intervals, on one server among all: signs how far it goes and what its root is. */
export class Sealer {
  readonly #deps: SealerDeps
  readonly #duty: Duty
  #sealedMs = 0

  constructor(deps: SealerDeps) {
    this.#deps = deps
    this.#duty = new Duty(deps.db, 'sealing', {
      round: () => this.#round(),
      away: () =>
        void this.#follow().catch((error: unknown) =>
          deps.log.error({ err: error }, 'a seal of another server could not be kept'),
        ),
      failed: (error) => deps.log.error({ err: error }, 'the ledger could not be sealed and is tried again'),
      retryMs,
    })
  }

  start(): void {
    this.#duty.start()
  }

  stop(): Promise<void> {
    return this.#duty.stop()
  }

  /** Keeps what another server sealed, so that each of them can tell a ledger that was cut off. */
  async #follow(): Promise<void> {
    const seal = await latestSeal(this.#deps.db)
    if (seal && Number(seal.number) > (this.#deps.outside.latest()?.number ?? 0))
      this.#deps.outside.add({ number: Number(seal.number), size: Number(seal.size), note: seal.note })
  }

  async #round(): Promise<number> {
    return (await this.#isDue()) && (await this.seal()) ? 0 : lookEveryMs
  }

  async #isDue(): Promise<boolean> {
    const { db, everyMs = 60_000, everySaves = 10_000 } = this.#deps
    if (performance.now() - this.#sealedMs >= everyMs || this.#sealedMs === 0) return true
    const [{ size }, last] = [await extentOf(db), await latestSeal(db)]
    const unsealed = size - Number(last?.size ?? 0)
    return unsealed >= everySaves || (unsealed > 0 && (await this.#deps.wanted?.()) === true)
  }

  /**
   * Seals what came since the last seal, from stored nodes. A new seal is published only when the tree it signs grew
   * from the one before. @returns whether there was something to seal
   */
  async seal(): Promise<boolean> {
    const { db, key, outside } = this.#deps
    const named = key.named(await originOf(db))
    try {
      const sealed = await db.transaction((trx) => this.#sealIn(trx, named))
      this.#sealedMs = performance.now()
      if (sealed) outside.add(sealed)
      return sealed !== null
    } catch (error) {
      if (!(error instanceof MissingLeaf || error instanceof MissingNode || error instanceof Fork)) throw error
      this.#sealedMs = performance.now()
      await keepMismatch(db, null, {
        place: `sealing: ${error.message}`,
        words: `The ledger cannot be sealed any further: ${error.message}. Check the ledger to find what was altered.`,
        ...(error instanceof MissingLeaf ? { saveId: error.saveId } : {}),
      })
      return false
    }
  }

  /** What was sealed last is still there: else a new seal would take the place of one that was taken away. */
  async #demandKept(trx: Knex.Transaction): Promise<void> {
    const kept = this.#deps.outside.latest()
    if (!kept) return
    const there = await trx<SealRow>('ledger.seal')
      .where({ number: String(kept.number) })
      .first('note')
    if (there?.note !== kept.note)
      throw new Fork(`seal ${kept.number}, which is kept outside the database, is not in it any more`)
  }

  async #sealIn(trx: Knex.Transaction, named: NoteKey) {
    await demandKey(trx, named)
    const last = await latestSeal(trx)
    await this.#demandKept(trx)
    const { first, size: there } = await extentOf(trx)
    const before = Number(last?.size ?? 0)
    const size = Math.min(there, before + mostAtOnce)
    if (size < before) throw new Fork(`the last seal covers ${before} saves, and there are only ${size}`)
    const events = await eventsAfter(trx, last?.events_transaction ?? '0', last?.events_id ?? '0', mostAtOnce)
    if (size === before && events.length === 0) return null

    const tree = new Tree(trx, first)
    const beforeRoot = last ? new Uint8Array(last.root) : await tree.root(0)
    const nodes = await tree.grow(before, size)
    const root = await tree.root(size)
    const proof = await tree.ask(consistencyProof(sha256, before, size))
    if (!provesConsistency(sha256, { first: before, firstRoot: beforeRoot, second: size, secondRoot: root, proof }))
      throw new Fork(`what seal ${last?.number ?? '0'} covers is no longer what it was`)

    let end: Uint8Array = last ? new Uint8Array(last.events_end) : chainBegin
    for (const event of events) end = chained(sha256, end, canonicalEvent(event))
    const at = new Date().toISOString()
    const counted = Number(last?.events ?? 0) + events.length
    const text = checkpointText({ origin: named.name, size, root, at, events: counted, eventsEnd: end })
    const note = signedNote(sha256, text, named, this.#deps.key.sign(text))
    const number = Number(last?.number ?? 0) + 1
    for (let from = 0; from < nodes.length; from += 1000)
      await trx('ledger.node').insert(
        nodes.slice(from, from + 1000).map((node) => ({ ...node, hash: Buffer.from(node.hash) })),
      )
    const lastEvent = events.at(-1)
    await trx('ledger.seal').insert({
      number,
      sealed_at: at,
      size,
      root: Buffer.from(root),
      events: counted,
      events_transaction: lastEvent?.transaction ?? last?.events_transaction ?? '0',
      events_id: lastEvent?.id ?? last?.events_id ?? 0,
      events_end: Buffer.from(end),
      note,
    })
    return { number, size, note }
  }
}

/** The ledger is not what was sealed. */
class Fork extends Error {}

/** Keeps the first key; another one has to have been handed over to. */
async function demandKey(trx: Knex.Transaction, named: NoteKey): Promise<void> {
  const line = keyLine(sha256, named)
  const known = await trx('ledger.signing_key')
    .orderBy('number', 'desc')
    .first<{ number: number; line: string } | undefined>('number', 'line')
  if (known === undefined) await trx('ledger.signing_key').insert({ number: 1, since: trx.fn.now(), line })
  else if (known.line !== line)
    throw new Fork(
      'the signing key in the data directory is not the one that sealed so far, and nobody handed over to it',
    )
}
