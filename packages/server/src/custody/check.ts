import { randomBytes } from 'node:crypto'
import { setTimeout as sleep } from 'node:timers/promises'
import {
  GrowingRoot,
  chainBegin,
  chained,
  checkpointText,
  readCheckpoint,
  readNote,
  sameBytes,
  sidesAltered,
  signatureBy,
  toHex,
  type Side,
} from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { vouchedKeys } from './hand-over.ts'
import { keepMismatch, type Mismatch } from '../alarms/mismatch.ts'
import type { OutsideSeal, OutsideSeals } from './outside.ts'
import type { Recomputed } from './recompute.ts'
import { block, isAsWritten, leavesOf, type Block, type Slice } from './slice.ts'
import type { Slices } from './slices.ts'
import { CountSums, type CountTable } from './count-sums.ts'
import { compareCounts, strayChange } from './compare-counts.ts'
import { compareEvents } from './compare-events.ts'
import { compareRecords } from './compare-records.ts'
import { compareFound } from '../found/compare.ts'
import { compareStanding } from '../standing/compare.ts'
import { compareFacts } from '../evidence/compare.ts'
import { compareShape } from './compare-shape.ts'
import { canonicalEvent, latestSeal, originOf, type EventRow, type SealRow } from './sealer.ts'
import { sha256 } from '../ledger/sha256.ts'
import { signatureHolds } from './signing-key.ts'
import { extentOf, fold } from './tree.ts'

const blockLevel = 8
/** Saves that are read and recomputed in one go: large enough that asking for them costs next to nothing. */
const sliceSaves = 64 * block
/** Of a check that has time: so many times as long as a slice took it rests after it. */
const restShare = 3
const eventsAtOnce = 2000
const sealsAtOnce = 1000
/** So many alarms of one check are enough to know that the ledger is not to be trusted. */
const mostFound = 1000

export interface CheckRun {
  db: Database
  outside: OutsideSeals | null
  /** The key of facts. */
  evidenceKey: Buffer
  slices: Slices
  checkId: number
  /** Whether somebody waits for it; else others keep most of the machine. Asked before each slice. */
  hurried(): boolean
  /** Called now and then with the saves that are done; throws when it is not to go on. */
  onProgress(done: number): Promise<void>
}

interface Between {
  afterSeal: number | null
  beforeSeal: number | null
}

/** Seals up to one, in order. There may be one for every minute of years: they are never all held. */
async function* sealsUpTo(db: Database, upTo: string): AsyncGenerator<SealRow> {
  for (let last = '0'; ;) {
    const rows = await db<SealRow>('ledger.seal')
      .where('number', '>', last)
      .where('number', '<=', upTo)
      .orderBy('number')
      .limit(sealsAtOnce)
    yield* rows
    if (rows.length < sealsAtOnce) return
    last = rows.at(-1)!.number
  }
}

/** Walks the whole ledger and compares saves, changes, counts, events and seals. What does not match is kept as an alarm. */
export class LedgerCheck {
  readonly #run: CheckRun
  readonly #secret = randomBytes(32).toString('hex')
  readonly #counted = new CountSums(this.#secret)
  #found = 0
  /** As many saves as the last seal covers. */
  #sealed = 0
  constructor(run: CheckRun) {
    this.#run = run
  }

  /** @returns how much it found */
  async check(): Promise<number> {
    const { db, outside } = this.#run
    // In this order: what is sealed meanwhile must not look as if the ledger had lost its end, or the database a seal.
    const known = outside?.all() ?? []
    const latest = await latestSeal(db)
    const upTo = latest?.number ?? '0'
    this.#sealed = Number(latest?.size ?? 0)
    const { first, size } = await extentOf(db)
    // First, since whatever is read afterwards is read from these tables.
    for (const mismatch of await compareShape(db)) await this.#tell(mismatch)
    await this.#seals(upTo, size, known)
    await this.#walk(first, size, upTo)
    await this.#events(upTo)
    const differing = await this.#countsThatDiffer(first, size)
    for (const compare of [
      () => compareEvents(db),
      () => compareCounts(db, differing),
      () => compareRecords(db),
      () => compareFound(db),
      () => compareStanding(db),
      () => compareFacts(db, this.#run.evidenceKey),
    ])
      for (const mismatch of await compare()) await this.#tell(mismatch)
    return this.#found
  }

  /** Between which two seals a leaf lies; asked only when something is to be told of it. */
  async #sealsAround(at: number): Promise<Between> {
    const seals = this.#run.db<SealRow>('ledger.seal')
    const [after, before] = await Promise.all([
      seals.clone().where('size', '<=', at).max({ number: 'number' }).first(),
      seals.clone().where('size', '>', at).min({ number: 'number' }).first(),
    ])
    const numberOf = (row: { number?: unknown } | undefined) =>
      typeof row?.number === 'string' ? Number(row.number) : null
    return { afterSeal: numberOf(after), beforeSeal: numberOf(before) }
  }

  async #tell(mismatch: Mismatch): Promise<void> {
    if (this.#found >= mostFound) return
    this.#found++
    await keepMismatch(this.#run.db, this.#run.checkId, mismatch)
  }

  /** The seals themselves: in order, each signed by a known key, saying what is stored of it. */
  async #seals(upTo: string, size: number, known: readonly OutsideSeal[]): Promise<void> {
    const { db } = this.#run
    const origin = await originOf(db)
    const { keys, whole } = await vouchedKeys(db, origin)
    if (!whole)
      await this.#tell({
        place: 'signing key',
        words: 'A signing key that is stored is not what it was, or nobody handed over to it.',
      })
    let [before, last]: [SealRow | undefined, SealRow | undefined] = [undefined, undefined]
    for await (const seal of sealsUpTo(db, upTo)) {
      before = last
      last = seal
      const note = readNote(seal.note)
      const checkpoint = note && readCheckpoint(note.text)
      const holds =
        note &&
        keys.some((key) => {
          const signature = signatureBy(sha256, note, key)
          return signature !== null && signatureHolds(key, note.text, signature)
        })
      const place = `seal ${seal.number}`
      const told = { place, afterSeal: before ? Number(before.number) : null, beforeSeal: Number(seal.number) }
      if (!holds || !checkpoint)
        await this.#tell({
          ...told,
          words: `Seal ${seal.number} does not hold: its note was altered, or was not signed by a known key.`,
        })
      else if (
        checkpointText(checkpoint) !==
        checkpointText({
          origin,
          size: Number(seal.size),
          root: new Uint8Array(seal.root),
          at: new Date(seal.sealed_at).toISOString(),
          events: Number(seal.events),
          eventsEnd: new Uint8Array(seal.events_end),
        })
      )
        await this.#tell({ ...told, words: `Seal ${seal.number} says other than what is stored beside it.` })
      if (Number(seal.number) !== Number(before?.number ?? 0) + 1)
        await this.#tell({
          ...told,
          place: `seal before ${seal.number}`,
          words: `A seal is missing before seal ${seal.number}.`,
        })
      if (before && Number(seal.size) < Number(before.size))
        await this.#tell({
          ...told,
          place: `size of seal ${seal.number}`,
          words: `Seal ${seal.number} covers less than the one before it.`,
        })
    }
    if (last && Number(last.size) > size)
      await this.#tell({
        place: 'end of the ledger',
        words: `The last seal covers ${last.size} saves, and the ledger has ${size}: its end was cut off.`,
        afterSeal: Number(before?.number ?? 0),
        beforeSeal: Number(last.number),
      })
    const gone = await firstNotThere(db, known)
    if (gone)
      await this.#tell({
        place: `seal ${gone.number} outside`,
        words: `Seal ${gone.number} (${gone.size} saves), which is kept outside the database, is not in it: the ledger was cut off, or put back from an older copy.`,
        beforeSeal: gone.number,
      })
  }

  /** @returns whether it went to the end. */
  async #walk(first: bigint, size: number, upTo: string): Promise<void> {
    const { db, slices, hurried, onProgress } = this.#run
    /** Perfect subtrees from left to right, as in the binary form of how many leaves were walked over. */
    const grown = new GrowingRoot(sha256)
    const seals = sealsUpTo(db, upTo)
    let next = await nextOf(seals)
    /** Seals that end with so many leaves. */
    const compareRoots = async (at: number) => {
      while (next && Number(next.size) <= at) {
        const seal = next
        next = await nextOf(seals)
        if (Number(seal.size) === at && !sameBytes(grown.root(), new Uint8Array(seal.root)))
          await this.#tell({
            place: `root of seal ${seal.number}`,
            words: `What seal ${seal.number} covers is no longer what was sealed.`,
            stored: toHex(new Uint8Array(seal.root)),
            expected: toHex(grown.root()),
            afterSeal: Number(seal.number) - 1 || null,
            beforeSeal: Number(seal.number),
          })
      }
    }
    const idOf = (at: number) => (first + BigInt(at)).toString()
    const endOf = (from: number) => Math.min(size, from + sliceSaves)
    const read = async (from: number): Promise<{ slice: Slice; nodes: Map<number, Uint8Array> }> => {
      const [slice, rows] = await Promise.all([
        slices.read({ from: first + BigInt(from), to: first + BigInt(endOf(from)), secret: this.#secret }),
        db('ledger.node')
          .where({ height: blockLevel })
          .where('place', '>=', from / block)
          .where('place', '<', Math.ceil(endOf(from) / block))
          .select<{ place: string; hash: Buffer }[]>('place', 'hash'),
      ])
      return { slice, nodes: new Map(rows.map((row) => [Number(row.place), new Uint8Array(row.hash)])) }
    }
    const ahead: ReturnType<typeof read>[] = []
    let asked = 0
    for (let from = 0; from < size; from = endOf(from)) {
      const begun = performance.now()
      // What is read next is read while this one is compared.
      const wanted = hurried() ? slices.parallel + 1 : 1
      for (; ahead.length < wanted && asked < size; asked = endOf(asked)) {
        const reading = read(asked)
        reading.catch(() => undefined)
        ahead.push(reading)
      }
      const { slice, nodes } = await ahead.shift()!
      this.#counted.take(slice.counts)
      for (const { saveId, fieldId } of slice.strays) await this.#tell(strayChange(saveId, fieldId))
      for (const [at, one] of slice.blocks.entries()) {
        const begin = from + at * block
        const end = Math.min(size, begin + block)
        const { leaves, root } = await this.#block(begin, end, one, nodes.get(begin / block), idOf)
        // Where no seal ends among them, their own root will do.
        if (root && (next === undefined || Number(next.size) >= end)) {
          grown.push(blockLevel, root)
          await compareRoots(end)
          continue
        }
        for (const [n, leaf] of leaves.entries()) {
          grown.push(0, leaf)
          await compareRoots(begin + n + 1)
        }
      }
      await onProgress(endOf(from))
      if (!hurried()) await sleep(restShare * (performance.now() - begun))
    }
    await this.#higherNodes()
  }

  /** Tells what is altered among neighbours, and gives the leaves that were sealed as far as they can be known. */
  async #block(
    begin: number,
    end: number,
    { leaves: computedLeaves, root: computedRoot, saves }: Block,
    node: Uint8Array | undefined,
    idOf: (at: number) => string,
  ): Promise<{ leaves: Uint8Array[]; root: Uint8Array | null }> {
    const computed = leavesOf(computedLeaves)
    const isNode = (root: Uint8Array | null) => node !== undefined && root !== null && sameBytes(root, node)
    const tellNode = async (words: string) =>
      this.#tell({
        place: `node ${begin / block}`,
        words: `The node over saves ${idOf(begin)} to ${idOf(end - 1)} ${words}.`,
        ...(node ? { stored: toHex(node) } : {}),
        ...(computedRoot ? { expected: toHex(computedRoot) } : {}),
        ...(await this.#sealsAround(begin)),
      })
    if (!node && computedRoot && end <= this.#sealed) await tellNode('is missing')
    const computedHolds = isNode(computedRoot)
    if (!saves) {
      if (node && computedRoot && !computedHolds) await tellNode('is not that of these saves')
      return { leaves: computed, root: computedRoot }
    }
    const byId = new Map<string, Recomputed>()
    for (const save of saves) {
      if (byId.has(save.id))
        await this.#tell({
          place: `save ${save.id} twice`,
          words: `Save ${save.id} is in the ledger twice.`,
          saveId: save.id,
          ...(await this.#sealsAround(begin)),
        })
      else byId.set(save.id, save)
    }
    const here = computed.map((_, n) => byId.get(idOf(begin + n)))
    // Where the two differ, the stored node says which of them was sealed.
    const stored = here.map((save, n) => (save?.stored ? Buffer.from(save.stored, 'hex') : computed[n]!))
    const storedRoot = computedRoot && fold(stored)
    if (node && computedRoot && !here.includes(undefined) && !computedHolds && !isNode(storedRoot))
      await tellNode('is not that of these saves')
    for (const [n, save] of here.entries()) {
      const at = begin + n
      if (!save)
        await this.#tell({
          place: `save ${idOf(at)} missing`,
          words: `Save ${idOf(at)} is missing from the ledger.`,
          saveId: idOf(at),
          ...(await this.#sealsAround(at)),
        })
      else if (!isAsWritten(save)) await this.#save(save, computedHolds, await this.#sealsAround(at))
    }
    return computedHolds ? { leaves: computed, root: computedRoot } : { leaves: stored, root: storedRoot }
  }

  async #save(save: Recomputed, contentHolds: boolean, around: Between): Promise<void> {
    const told = { saveId: save.id, ...around }
    for (const change of save.changes)
      if (change.strays.length > 0)
        await this.#tell({
          ...told,
          place: `save ${save.id} field ${change.fieldId} columns`,
          words: `Save ${save.id}: of one of its changes, ${change.strays.join(' and ')} is not that of the save.`,
          fieldId: change.fieldId,
        })
    const altered = save.changes.filter((change) => change.stored !== change.digest)
    if (save.leaf === save.stored || contentHolds) {
      if (save.leaf !== save.stored)
        await this.#tell({
          ...told,
          place: `leaf of save ${save.id}`,
          words: `The leaf stored with save ${save.id} was altered; the save itself is as it was sealed.`,
          stored: save.stored ?? 'nothing',
          expected: save.leaf,
        })
      for (const change of altered)
        await this.#tell({
          ...told,
          place: `digest of save ${save.id} field ${change.fieldId}`,
          words: `The digest stored with a change of save ${save.id} was altered; the change itself is as it was sealed.`,
          fieldId: change.fieldId,
          stored: change.stored ?? 'nothing',
          expected: change.digest,
        })
      return
    }
    if (altered.length === 0)
      await this.#tell({
        ...told,
        place: `save ${save.id}`,
        words: `Save ${save.id} (${save.label}, ${save.at}) is not as it was written: its time, actor, record, number of changes or another of its own columns was altered.`,
        stored: save.stored ?? 'nothing',
        expected: save.leaf,
      })
    for (const change of altered)
      await this.#tell({
        ...told,
        place: `save ${save.id} field ${change.fieldId}`,
        words: `Save ${save.id} (${save.label}, ${save.at}): of this change, ${wordsOf(sidesAltered(change.stored, change.digest))} not as written.`,
        fieldId: change.fieldId,
        stored: change.stored ?? 'nothing',
        expected: change.digest,
      })
  }

  /** Which counts are not those of the saves: of the ones walked over, and of those before sealing and since. */
  async #countsThatDiffer(first: bigint, size: number): Promise<CountTable[]> {
    const { slices, onProgress } = this.#run
    const { counts, lastSaveId } = await slices.stored(this.#secret)
    const stored = new CountSums(this.#secret)
    stored.take(counts)
    const step = BigInt(sliceSaves)
    for (const [begin, end] of [
      [1n, first],
      [first + BigInt(size), BigInt(lastSaveId) + 1n],
    ] as const)
      for (let from = begin; from < end; from += step) {
        await onProgress(size)
        const to = from + step < end ? from + step : end
        this.#counted.take((await slices.read({ from, to, secret: this.#secret, countsOnly: true })).counts)
      }
    return this.#counted.differing(stored)
  }

  /** Nodes above the lowest: each is made of 256 of the height below. */
  async #higherNodes(): Promise<void> {
    const { db } = this.#run
    const { rows } = await db.raw<{ rows: { height: number; place: string; hash: Buffer; below: Buffer[] }[] }>(
      `select n.height, n.place, n.hash, array(select b.hash from ledger.node b where b.height = n.height - 8 and b.place >= n.place * 256 and b.place < n.place * 256 + 256 order by b.place) as below
         from ledger.node n where n.height > 8 order by n.height, n.place`,
    )
    for (const row of rows) {
      const expected = row.below.length === block ? fold(row.below.map((hash) => new Uint8Array(hash))) : null
      if (!expected || !sameBytes(expected, new Uint8Array(row.hash)))
        await this.#tell({
          place: `node ${row.height}/${row.place}`,
          words: `A node of the tree (height ${row.height}, place ${row.place}) is not that of those below it.`,
          stored: row.hash.toString('hex'),
          ...(expected ? { expected: toHex(expected) } : {}),
        })
    }
  }

  /** Events of Spoor itself, along their chain. */
  async #events(upTo: string): Promise<void> {
    const { db } = this.#run
    let [transaction, id, counted] = ['0', '0', 0]
    let end: Uint8Array = chainBegin
    let before = 0
    for await (const seal of sealsUpTo(db, upTo)) {
      let more = seal.events_transaction !== transaction || String(seal.events_id) !== id
      while (more) {
        const { rows } = await db.raw<{ rows: EventRow[] }>(
          `select e.id::text, e.transaction::text, e.at, e.kind, e.outcome, e.person_id, e.source_id, e.words, e.address from ledger.event e
            where (e.transaction, e.id) > (?::xid8, ?::bigint) and (e.transaction, e.id) <= (?::xid8, ?::bigint) order by e.transaction, e.id limit ?`,
          [transaction, id, seal.events_transaction, seal.events_id, eventsAtOnce],
        )
        for (const event of rows) end = chained(sha256, end, canonicalEvent(event))
        counted += rows.length
        const last = rows.at(-1)
        if (last) [transaction, id] = [last.transaction, last.id]
        more = rows.length === eventsAtOnce
      }
      if (counted !== Number(seal.events) || !sameBytes(end, new Uint8Array(seal.events_end))) {
        await this.#tell({
          place: `events of seal ${seal.number}`,
          words: `Of the events between seal ${before} and seal ${seal.number}, one was altered, taken away or put in (${counted} there, ${seal.events} sealed).`,
          stored: seal.events_end.toString('hex'),
          expected: toHex(end),
          afterSeal: before || null,
          beforeSeal: Number(seal.number),
        })
        // What follows is told by its own interval.
        ;[end, counted] = [new Uint8Array(seal.events_end), Number(seal.events)]
      }
      ;[transaction, id] = [seal.events_transaction, String(seal.events_id)]
      before = Number(seal.number)
    }
  }
}

/** The first of the seals kept outside that the database has not, or has otherwise. */
async function firstNotThere(db: Database, kept: readonly OutsideSeal[]): Promise<OutsideSeal | undefined> {
  for (let from = 0; from < kept.length; from += sealsAtOnce) {
    const some = kept.slice(from, from + sealsAtOnce)
    const numbers = some.map(({ number }) => String(number))
    const rows = await db<SealRow>('ledger.seal').whereIn('number', numbers).select('number', 'note')
    const there = new Map(rows.map(({ number, note }) => [number, note]))
    const gone = some.find(({ number, note }) => there.get(String(number)) !== note)
    if (gone) return gone
  }
  return undefined
}

async function nextOf<T>(items: AsyncGenerator<T>): Promise<T | undefined> {
  const { value, done } = await items.next()
  return done ? undefined : value
}

function wordsOf(sides: readonly Side[]): string {
  return sides.length === 1 ? `the value ${sides[0]} is` : 'both values, or what is kept to prove them, are'
}

/** The root over perfect subtrees, as RFC 6962 joins them: from the right. */
