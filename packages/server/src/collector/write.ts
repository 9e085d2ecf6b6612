import { createHmac, randomBytes } from 'node:crypto'
import {
  canonicalSave,
  changeDigest,
  commitmentsOf,
  foldRows,
  leafText,
  rise,
  valueKind,
  type Commitments,
  type TrackingPlan,
} from '@spoor/core'
import type { Knex } from 'knex'
import { addToRollups } from './rollups.ts'
import { assignRuns } from './runs.ts'
import { sha256Hex } from '../custody/sha256.ts'
import { copyInto, copyLine, withBytes } from '../database/copy.ts'
import { boundArray, isAfter, type Database } from '../database/knex.ts'
import type { CapturedSave, Who } from './interpret.ts'

export interface Batch {
  sourceId: number
  /** The count of batches the collector saw before it read; if it moved, another collector was here. */
  batchesSeen: string
  saves: readonly CapturedSave[]
  setAside: readonly { seq: string; why: string; content: string }[]
}

export class CollectorSuperseded extends Error {}

const saveColumns = [
  'id', 'captured_at', 'source_id', 'type_id', 'record_key', 'key_before', 'label', 'action', 'actor_id', 'actor_kind', 'claimed',
  'on_behalf_of', 'channel', 'run', 'reason', 'correction_id', 'db_login', 'application_name', 'client_address', 'transaction_id',
  'plan_version', 'outbox_seq', 'run_id', 'parent_type_id', 'parent_key', 'collected_at', 'actor_name', 'leaf',
] // prettier-ignore
const changeColumns = [
  'save_id',
  'captured_at',
  'field_id',
  'type_id',
  'record_key',
  'actor_id',
  'actor_kind',
  'before',
  'after',
  'parent_type_id',
  'parent_key',
  'rise',
  'rise_share',
  'salt',
  'digest',
]

/** Of both sides of a change (docs/proof.md, rule 2). */
const saltBytes = 32
const saltPool = 65_536

/** Writes batches into the ledger, each in one transaction with the note of what was taken. */
export class LedgerWriter {
  readonly #db: Database
  readonly #fingerprintKey: Buffer
  readonly #actors = new Map<string, number>()
  readonly #fingerprinted = new Map<string, boolean>()
  /** Fields that hold numbers, of the types met so far. */
  readonly #numbers = new Set<number>()
  readonly #typesMet = new Set<number>()
  #unused = Buffer.alloc(0)
  constructor(db: Database, fingerprintKey: Buffer) {
    this.#db = db
    this.#fingerprintKey = fingerprintKey
  }

  /** @throws CollectorSuperseded when another collector took rows of this source meanwhile; nothing is written then. */
  async write(batch: Batch): Promise<void> {
    // The number of its last row: what was taken of a transaction is everything up to it.
    const saves = foldRows(batch.saves, (first, later) => ({ ...first, seq: later.seq }))
    const actors = await this.#db.transaction(async (trx) => {
      await this.#claim(trx, batch)
      for (const month of new Set(saves.map((save) => save.at.slice(0, 7))))
        await trx.raw('select ledger.ensure_month(?::date)', [`${month}-01`])
      const actors = await this.#actorsOf(trx, saves)
      await this.#learnFields(trx, batch.sourceId, saves)
      await this.#learnNumbers(trx, saves)
      const first = await nextSaveId(trx, saves.length)
      const runs = await assignRuns(trx, batch.sourceId, saves)
      const parents = await parentTypes(trx, saves)
      const collectedAt = `${new Date().toISOString().replace(/\.?0*Z$/, '')}Z`
      const numbered = saves.map((save, i): Numbered => ({
        save,
        id: String(first + BigInt(i)),
        actorId: actors.get(actorName(save.who))!,
        runId: runs[i]!,
        parentTypeId: save.parentKey === null ? null : (parents.get(save.typeId) ?? null),
        collectedAt,
        changes: [],
      }))
      // The changes first: a save's leaf is made of theirs.
      await copyInto(
        trx,
        'ledger.change',
        changeColumns,
        each(numbered, (n) => this.#changeLines(n)),
      )
      await copyInto(
        trx,
        'ledger.save',
        saveColumns,
        each(numbered, (n) => [this.#saveLine(batch.sourceId, n)]),
      )
      await addToRollups(trx, numbered)
      await noteRecords(trx, numbered)
      await noteCorrections(trx, saves)
      if (batch.setAside.length > 0)
        await trx('ledger.set_aside').insert(
          batch.setAside.map(({ seq, why, content }) => ({ source_id: batch.sourceId, outbox_seq: seq, why, content })),
        )
      return actors
    })
    for (const [name, number] of actors) this.#actors.set(name, number)
  }

  async #claim(trx: Knex.Transaction, { sourceId, batchesSeen, saves, setAside }: Batch): Promise<void> {
    const taken = [...saves, ...setAside].map(({ seq }) => seq)
    const updated = await trx('ledger.collector_state')
      .where({ source_id: sourceId, batches: batchesSeen })
      .update({
        batches: trx.raw('batches + 1'),
        saves: trx.raw('saves + ?', [saves.length]),
        changes: trx.raw('changes + ?', [saves.reduce((sum, save) => sum + Object.keys(save.delta).length, 0)]),
        high_seq: trx.raw('greatest(high_seq, ?::bigint)', [highest(taken)]),
        last_at: trx.raw('greatest(last_at, ?::timestamptz)', [latest(saves)]),
        seen_at: trx.fn.now(),
        trouble: null,
      })
    if (updated !== 1) throw new CollectorSuperseded(`another collector took rows of source ${sourceId}`)
  }

  /** Numbers of the saves' actors. New ones are remembered only once their transaction is committed. */
  async #actorsOf(trx: Knex.Transaction, saves: readonly CapturedSave[]): Promise<ReadonlyMap<string, number>> {
    const wanted = new Map(saves.map(({ who }) => [actorName(who), who]))
    const numbers = new Map<string, number>()
    for (const [key, who] of wanted) numbers.set(key, this.#actors.get(key) ?? (await actorNumber(trx, who)))
    return numbers
  }

  /** Which fields a plan version keeps as a fingerprint. */
  async #learnFields(trx: Knex.Transaction, sourceId: number, saves: readonly CapturedSave[]): Promise<void> {
    const versions = new Set(
      saves.map((save) => save.planVersion).filter((version) => !this.#fingerprinted.has(`v${version}`)),
    )
    for (const version of versions) {
      const rows = await trx('spoor.plan_version')
        .where({ source_id: sourceId, version })
        .select<{ plan: TrackingPlan }[]>('plan')
      for (const { plan } of rows)
        for (const type of Object.values(plan.types))
          for (const [fieldId, { keep }] of Object.entries(type.fields))
            this.#fingerprinted.set(`${version}/${fieldId}`, keep === 'fingerprint')
      this.#fingerprinted.set(`v${version}`, true)
    }
  }

  async #learnNumbers(trx: Knex.Transaction, saves: readonly CapturedSave[]): Promise<void> {
    const unmet = [...new Set(saves.map((save) => save.typeId))].filter((typeId) => !this.#typesMet.has(typeId))
    if (unmet.length === 0) return
    const rows = await trx('spoor.field').whereIn('type_id', unmet).select<{ id: number; base_type: string }[]>('id', 'base_type') // prettier-ignore
    for (const row of rows) if (valueKind(row.base_type) === 'number') this.#numbers.add(row.id)
    for (const typeId of unmet) this.#typesMet.add(typeId)
  }

  #saveLine(sourceId: number, { save, id, actorId, runId, parentTypeId, collectedAt, changes }: Numbered): string {
    const parentKey = parentTypeId === null ? null : save.parentKey
    const canonical = canonicalSave({
      id, at: save.at, collectedAt, sourceId, typeId: save.typeId, key: save.key, keyBefore: save.keyBefore, label: save.label, action: save.action,
      actorId, actorKind: save.who.kind, actorName: save.who.name, claimed: save.who.claimed, onBehalfOf: save.onBehalfOf, channel: save.channel,
      run: save.run, runId: String(runId), reason: save.reason, correctionId: save.correctionId, login: save.login, application: save.applicationName,
      address: save.clientAddress, transaction: save.transaction, planVersion: save.planVersion, seq: save.seq, parentTypeId, parentKey,
      changes: changes.sort((a, b) => a.fieldId - b.fieldId),
    }) // prettier-ignore
    return withBytes(copyLine([
      id, save.at, sourceId, save.typeId, save.key, save.keyBefore, save.label, save.action, actorId, save.who.kind, save.who.claimed,
      save.onBehalfOf, save.channel, save.run, save.reason, save.correctionId, save.login, save.applicationName, save.clientAddress,
      save.transaction, save.planVersion, save.seq, runId, parentTypeId, parentKey, collectedAt, save.who.name,
    ]), sha256Hex(leafText(canonical))) // prettier-ignore
  }

  #changeLines({ save, id, actorId, parentTypeId, changes }: Numbered): string[] {
    const parentKey = parentTypeId === null ? null : save.parentKey
    const entries = Object.entries(save.delta)
    const salts = this.#salts(entries.length)
    return entries.map(([fieldId, [before, after]], at) => {
      const moved = this.#numbers.has(Number(fieldId)) ? rise(before, after) : null
      const hashed = this.#fingerprinted.get(`${save.planVersion}/${fieldId}`) === true
      const kept = (value: string | null) => (hashed && value !== null ? this.#fingerprint(value) : value)
      const salt = salts.toString('hex', at * saltBytes, (at + 1) * saltBytes)
      const [keptBefore, keptAfter] = [kept(before), kept(after)]
      const commitments = commitmentsOf(sha256Hex, salt, keptBefore, keptAfter)
      changes.push({ fieldId: Number(fieldId), ...commitments })
      return withBytes(copyLine([id, save.at, fieldId, save.typeId, save.key, actorId, save.who.kind, keptBefore, keptAfter, parentTypeId, parentKey, moved?.by ?? null, moved?.share ?? null]), salt, changeDigest(sha256Hex, commitments)) // prettier-ignore
    })
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

  /** The source's salted hash under a key that never leaves Spoor, so that the ledger's fingerprint cannot be guessed at from there. */
  #fingerprint(sourceHash: string): string {
    return createHmac('sha256', this.#fingerprintKey).update(sourceHash).digest('hex')
  }
}

function* each<T>(items: readonly T[], lines: (item: T) => readonly string[]): Generator<string> {
  for (const item of items) yield* lines(item)
}

function latest(saves: readonly CapturedSave[]): string | null {
  return saves.reduce<string | null>((most, { at }) => (most === null || isAfter(at, most) ? at : most), null)
}

function highest(seqs: readonly string[]): string {
  return seqs.reduce((most, seq) => (BigInt(seq) > BigInt(most) ? seq : most), '0')
}

interface Numbered {
  save: CapturedSave
  runId: number
  id: string
  actorId: number
  /** Null when the type is no line. */
  parentTypeId: number | null
  collectedAt: string
  /** Filled in as the lines of its changes are made. */
  changes: ({ fieldId: number } & Commitments)[]
}

/** The number of an actor by the name it has now, else by one it had; a new one is made. */
async function actorNumber(trx: Knex.Transaction, { kind, name }: Who): Promise<number> {
  const { rows: known } = await trx.raw<{ rows: { id: number }[] }>(
    `select id from spoor.actor where kind = :kind and name = :name
     union all select actor_id from spoor.former_name where kind = :kind and name = :name limit 1`,
    { kind, name },
  )
  if (known[0]) return known[0].id
  const { rows } = await trx.raw<{ rows: { id: number }[] }>(
    `insert into spoor.actor (kind, name) values (?, ?) on conflict (kind, name) do update set name = excluded.name returning id`,
    [kind, name],
  )
  return rows[0]!.id
}

/** Whose lines these saves' types are, by type. */
async function parentTypes(trx: Knex.Transaction, saves: readonly CapturedSave[]): Promise<Map<number, number>> {
  const typeIds = [...new Set(saves.flatMap((save) => (save.parentKey === null ? [] : [save.typeId])))]
  if (typeIds.length === 0) return new Map()
  const rows = await trx('spoor.record_type')
    .whereIn('id', typeIds)
    .whereNotNull('parent_type_id')
    .select<{ id: number; parent_type_id: number }[]>('id', 'parent_type_id')
  return new Map(rows.map((row) => [row.id, row.parent_type_id]))
}

function actorName({ kind, name }: Who): string {
  return `${kind}\n${name}`
}

/** Draws `count` numbers without gaps: the head's row is locked until the transaction ends. */
async function nextSaveId(trx: Knex.Transaction, count: number): Promise<bigint> {
  const { rows } = await trx.raw<{ rows: { last_save_id: string }[] }>(
    'update ledger.head set last_save_id = last_save_id + ? returning last_save_id',
    [count],
  )
  return BigInt(rows[0]!.last_save_id) - BigInt(count) + 1n
}

async function noteRecords(trx: Knex.Transaction, numbered: readonly Numbered[]): Promise<void> {
  const latest = new Map<string, { typeId: number; key: string; label: string; deleted: boolean; id: string }>()
  for (const { save, id } of numbered) {
    const { typeId, key, keyBefore, label } = save
    if (keyBefore !== null) latest.set(`${typeId}/${keyBefore}`, { typeId, key: keyBefore, label, deleted: true, id })
    latest.set(`${typeId}/${key}`, { typeId, key, label, deleted: save.action === 'delete', id })
  }
  const records = [...latest.values()]
  await trx.raw(
    `insert into spoor.record (type_id, record_key, label, deleted, latest_save_id)
     select * from unnest(?::int[], ?::text[], ?::text[], ?::boolean[], ?::bigint[])
     on conflict (type_id, record_key) do update
       set label = excluded.label, deleted = excluded.deleted, latest_save_id = excluded.latest_save_id`,
    [
      records.map((r) => r.typeId),
      records.map((r) => r.key),
      records.map((r) => r.label),
      records.map((r) => r.deleted),
      records.map((r) => r.id),
    ].map(boundArray),
  )
}

/** A correction whose saves arrive was applied, even if the server stopped before it could write that down. */
async function noteCorrections(trx: Knex.Transaction, saves: readonly CapturedSave[]): Promise<void> {
  const ids = [...new Set(saves.flatMap((save) => (save.correctionId === null ? [] : [save.correctionId])))]
  if (ids.length === 0) return
  await trx('spoor.correction')
    .whereIn('id', ids)
    .where({ state: 'draft' })
    .update({ state: 'applied', applied_at: trx.fn.now() })
}
