import { randomBytes } from 'node:crypto'
import { setImmediate as breathe } from 'node:timers/promises'
import {
  changeDigest,
  commitmentsOf,
  contested,
  foldRows,
  groupBy,
  namedBy,
  placesAfter,
  recordPlace,
  rise,
  valueKind,
  type Commitments,
  type ContestedPlace,
  type TrackingPlan,
} from '@spoor/core'
import { fingerprint } from '../ledger/fingerprint.ts'
import { sha256Hex } from '../ledger/sha256.ts'
import { calledBy } from '../capture/label-parts.ts'
import type { RecordNames } from '../capture/record-names.ts'
import { boundArray, isAfter, type Database } from '../database/knex.ts'
import { interpret, type CapturedSave, type Known } from './interpret.ts'
import type { OutboxRow } from '../capture/outbox.ts'

/** A change as it will be kept: nothing of it depends on the number its save is going to have. */
export interface PreparedChange {
  fieldId: number
  before: string | null
  after: string | null
  /** Of both sides, in hexadecimal digits (docs/proof.md, rule 2). */
  salt: string
  commitments: Commitments
  digest: string
  rise: string | null
  riseShare: number | null
}

export interface PreparedSave {
  save: CapturedSave
  /** By field number, ascending. */
  changes: readonly PreparedChange[]
}

/** Rows of an outbox understood, folded and committed to, which only want numbers. */
export interface Prepared {
  saves: readonly PreparedSave[]
  /** Rows that could not be understood, whole. */
  setAside: readonly { seq: string; why: string; content: string }[]
  /** The highest number and the latest time among the rows; null of none. */
  highSeq: string
  lastAt: string | null
}

const saltBytes = 32
const saltPool = 65_536
/** So many saves are prepared before others have their turn. */
const slice = 200

/** Does with captured rows what needs no lock and no number, so that it can be done while an earlier batch is written. */
export class Preparer {
  readonly #db: Database
  readonly #sourceId: number
  readonly #fingerprintKey: Buffer
  readonly #names: RecordNames
  readonly #versionsMet = new Set<number>()
  /** Fields that a plan version keeps as a fingerprint, as `version/field`. */
  readonly #fingerprinted = new Set<string>()
  /** Types of a plan version whose numbers are known: a later version may track more of a type's fields. */
  readonly #typesMet = new Set<string>()
  readonly #numbers = new Set<number>()
  #unused = Buffer.alloc(0)

  constructor(db: Database, sourceId: number, fingerprintKey: Buffer, names: RecordNames) {
    this.#db = db
    this.#sourceId = sourceId
    this.#fingerprintKey = fingerprintKey
    this.#names = names
  }

  /** @param earlier what is still being written to the ledger while this is prepared */
  async prepare(rows: readonly OutboxRow[], known: Known, earlier: readonly PreparedSave[] = []): Promise<Prepared> {
    const understood: CapturedSave[] = []
    const setAside: { seq: string; why: string; content: string }[] = []
    for (const [at, row] of rows.entries()) {
      if (at % slice === slice - 1) await breathe()
      const read = interpret(row, known)
      if (read.understood) understood.push(read.save)
      else setAside.push({ seq: row.seq, why: read.why, content: JSON.stringify(row) })
    }
    // The number of its last row: what was taken of a transaction is everything up to it.
    const taken = await this.#taken(contested(understood), earlier)
    const folded = foldRows(understood, (first, later) => ({ ...first, seq: highest([first, later]) }), taken)
    await this.#learnFingerprints(folded)
    await this.#learnNumbers(folded)
    const saves: PreparedSave[] = []
    await this.#learnReferences(folded)
    for (const [at, save] of (await this.#called(folded, earlier)).entries()) {
      if (at % slice === slice - 1) await breathe()
      saves.push({ save, changes: this.#changes(save) })
    }
    return { saves, setAside, highSeq: highest(rows), lastAt: latest(understood) }
  }

  /**
   * Saves with the labels of their moment: a record that others name is called as the last save before says, else as the
   * trail has it or the source answers.
   */
  async #called(saves: readonly CapturedSave[], earlier: readonly PreparedSave[]): Promise<readonly CapturedSave[]> {
    const wanted = saves.flatMap(({ labelOf }) => (labelOf === null ? [] : namedBy(labelOf)))
    if (wanted.length === 0) return saves
    const names = await this.#names.of(wanted)
    const note = ({ typeId, key, label }: CapturedSave) => names.set(recordPlace(typeId, key), label)
    for (const { save } of earlier) note(save)
    return saves.map((save) => {
      const called = { ...save, label: calledBy(save.label, save.labelOf, names) }
      note(called)
      return called
    })
  }

  /** What records are called that values refer to, where nobody tracks them. */
  async #learnReferences(saves: readonly CapturedSave[]): Promise<void> {
    for (const [typeId, some] of groupBy(saves, (save) => save.typeId)) await this.#names.learn(typeId, valuesOf(some))
  }

  #changes(save: CapturedSave): PreparedChange[] {
    const entries = Object.entries(save.delta)
    const salts = this.#salts(entries.length)
    const changes = entries.map(([field, [before, after]], at): PreparedChange => {
      const fieldId = Number(field)
      const hashed = this.#fingerprinted.has(`${save.planVersion}/${field}`)
      const kept = (value: string | null) =>
        hashed && value !== null ? fingerprint(this.#fingerprintKey, value) : value
      const moved = this.#numbers.has(fieldId) ? rise(before, after) : null
      const salt = salts.toString('hex', at * saltBytes, (at + 1) * saltBytes)
      const [keptBefore, keptAfter] = [kept(before), kept(after)]
      const commitments = commitmentsOf(sha256Hex, salt, keptBefore, keptAfter)
      return {
        fieldId,
        before: keptBefore,
        after: keptAfter,
        salt,
        commitments,
        digest: changeDigest(commitments),
        rise: moved?.by ?? null,
        riseShare: moved?.share ?? null,
      }
    })
    return changes.sort((a, b) => a.fieldId - b.fieldId)
  }

  /**
   * Which of some places a record stands at, as far as the ledger goes and what is being written to it. Of one that was only
   * ever found it counts whether it was there before the one that arrives: the reading may have met that one itself, before
   * the save that made it is here.
   */
  async #taken(places: readonly ContestedPlace[], earlier: readonly PreparedSave[]): Promise<ReadonlySet<string>> {
    if (places.length === 0) return new Set()
    const { rows } = await this.#db.raw<{ rows: { type_id: number; record_key: string }[] }>(
      `select r.type_id, r.record_key from unnest(?::int[], ?::text[], ?::text[]) as p(type_id, record_key, arriving)
         join spoor.record r on r.type_id = p.type_id and r.record_key = p.record_key and not r.deleted
        where exists (select from ledger.save s where s.type_id = p.type_id and s.record_key = p.record_key)
           or exists (select from ledger.found f where f.type_id = p.type_id and f.record_key = p.record_key
                         and not pg_visible_in_snapshot(p.arriving::xid8, f.snapshot::pg_snapshot))`,
      [
        boundArray(places.map((place) => place.typeId)),
        boundArray(places.map((place) => place.key)),
        boundArray(places.map((place) => place.arriving)),
      ],
    )
    const taken = new Set(rows.map((row) => recordPlace(row.type_id, row.record_key)))
    for (const [place, there] of placesAfter(earlier.map(({ save }) => save)))
      if (there) taken.add(place)
      else taken.delete(place)
    return taken
  }

  async #learnFingerprints(saves: readonly CapturedSave[]): Promise<void> {
    const unmet = [...new Set(saves.map((save) => save.planVersion))].filter((one) => !this.#versionsMet.has(one))
    if (unmet.length === 0) return
    const rows = await this.#db('spoor.plan_version')
      .where({ source_id: this.#sourceId })
      .whereIn('version', unmet)
      .select<{ version: number; plan: TrackingPlan }[]>('version', 'plan')
    for (const { version, plan } of rows)
      for (const type of Object.values(plan.types))
        for (const [fieldId, { keep }] of Object.entries(type.fields))
          if (keep === 'fingerprint') this.#fingerprinted.add(`${version}/${fieldId}`)
    for (const version of unmet) this.#versionsMet.add(version)
  }

  async #learnNumbers(saves: readonly CapturedSave[]): Promise<void> {
    const met = (save: CapturedSave) => `${save.planVersion}/${save.typeId}`
    const unmet = saves.filter((save) => !this.#typesMet.has(met(save)))
    if (unmet.length === 0) return
    const typeIds = [...new Set(unmet.map((save) => save.typeId))]
    const rows = await this.#db('spoor.field')
      .whereIn('type_id', typeIds)
      .select<{ id: number; base_type: string }[]>('id', 'base_type')
    for (const row of rows) if (valueKind(row.base_type) === 'number') this.#numbers.add(row.id)
    for (const save of unmet) this.#typesMet.add(met(save))
  }

  /** Random bytes for the salts of some changes; drawn many at once, since each drawing costs more than its bytes. */
  #salts(changes: number): Buffer {
    const bytes = changes * saltBytes
    if (bytes > saltPool) return randomBytes(bytes)
    if (this.#unused.length < bytes) this.#unused = randomBytes(saltPool)
    const salts = this.#unused.subarray(0, bytes)
    this.#unused = this.#unused.subarray(bytes)
    return salts
  }
}

function* valuesOf(saves: readonly CapturedSave[]): Generator<readonly [fieldId: number, value: string]> {
  for (const { delta } of saves)
    for (const field in delta) for (const value of delta[field]!) if (value !== null) yield [Number(field), value]
}

function latest(saves: readonly CapturedSave[]): string | null {
  return saves.reduce<string | null>((most, { at }) => (most === null || isAfter(at, most) ? at : most), null)
}

function highest(rows: readonly Pick<OutboxRow, 'seq'>[]): string {
  return rows.reduce((most, { seq }) => (BigInt(seq) > BigInt(most) ? seq : most), '0')
}
