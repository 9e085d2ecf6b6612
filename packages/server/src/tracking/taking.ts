import { randomBytes } from 'node:crypto'
import { setImmediate as breathe, setTimeout as sleep } from 'node:timers/promises'
import {
  canonicalKey,
  counted,
  commitment,
  emptyPlan,
  foundSalts,
  GrowingRoot,
  namedBy,
  rulesOf,
  takingWords,
  toHex,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { CapturedTable } from '../capture/table.ts'
import { calledBy, readLabelParts } from '../capture/label-parts.ts'
import { RecordNames } from '../capture/record-names.ts'
import type { HeldRow } from '../capture/held.ts'
import { atOnce, readByKeys, readInOrder, type Read } from '../capture/reading.ts'
import { fingerprint } from '../ledger/fingerprint.ts'
import { sha256, sha256Hex } from '../ledger/sha256.ts'
import { copyInto, copyLine } from '../database/copy.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import type { Sources } from '../sources/registry.ts'
import { aboutRows } from '../sources/size.ts'
import { installation } from './capture-plan.ts'
import { planInForce } from './plan-store.ts'
import type { JobRow } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { stillTracked, takeAgain } from '../found/ask.ts'
import { canonicalOf, leafOf, type TakingRow } from '../ledger/found-record.ts'

/** After each reading the source rests for as long as it took, so that the business keeps at least half of what is free. */
const restShare = 1
/** So many are hashed before others have their turn. */
const slice = 100
const saltBytes = 32

/**
 * Takes in what the records of a type hold, once: a few thousand at a time in the order of their keys, each reading as of
 * one snapshot, so that every captured change is known to be in it or to have come after. What has been read is kept: after
 * a stop of the server it goes on behind the last key.
 */
export class Taking implements JobHandler {
  readonly kind = 'taking'
  readonly #db: Database
  readonly #sources: Sources
  readonly #fingerprintKey: Buffer
  readonly #names: RecordNames

  constructor(db: Database, sources: Sources, fingerprintKey: Buffer) {
    this.#db = db
    this.#sources = sources
    this.#fingerprintKey = fingerprintKey
    this.#names = new RecordNames(db, sources)
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const db = this.#db
    const taking = (await db<TakingRow>('spoor.taking').where({ job_id: job.id }).first())!
    if (taking.state !== 'going') return { words: 'It had been taken in before the server stopped.' }
    const table = await this.#table(taking)
    if (!table) {
      const { records } = await db.transaction((trx) => conclude(trx, taking.id, false))
      return { words: `They are not tracked as they were any more; ${counted(records, 'record')} had been taken in.` }
    }
    const source = await this.#sources.connection(taking.source_id)
    const { keys } = job.input as { keys?: string[] }
    if (keys) {
      await this.#keep(taking, table, await readByKeys(source, table, keys), null)
      const { records } = await db.transaction((trx) => conclude(trx, taking.id, true))
      return { words: `Took in what ${counted(records, 'record')} held.`, output: { takingId: taking.id, records } }
    }
    const total = (await aboutRows(source, [table.relationId])).get(String(table.relationId)) ?? 0
    let { last_key: lastKey } = taking
    let done = Number(taking.records)
    for (;;) {
      await job.progress({ done, total: Math.max(total, done), doing: 'reading records in the order of their keys' })
      const begun = performance.now()
      const read = await readInOrder(source, table, lastKey)
      const tookMs = performance.now() - begun
      lastKey = read.rows.at(-1)?.key ?? lastKey
      done += await this.#keep(taking, table, read, lastKey)
      if (read.rows.length < atOnce) break
      await sleep(tookMs * restShare)
    }
    await job.progress({ done, total: done, doing: 'looking for records whose key changed meanwhile' })
    await this.#keep(taking, table, await this.#moved(source, taking, table), lastKey)
    const { records } = await db.transaction((trx) => conclude(trx, taking.id, true))
    return {
      words: `Took in what ${counted(records, 'record')} held, ${counted(table.fields.length, 'field')} of each.`,
      output: { takingId: taking.id, records },
    }
  }

  /** What was read until it was stopped is evidence as well. */
  async afterwards(db: Database, job: JobRow): Promise<void> {
    const taking = await db<TakingRow>('spoor.taking').where({ job_id: job.id, state: 'going' }).first()
    if (taking) await db.transaction((trx) => conclude(trx, taking.id, false))
  }

  /**
   * The table as it is captured, with the fields that are to be read: those that are still tracked where none was read yet.
   * Null when there is nothing to read, or not all of what was read of the first records.
   */
  async #table(taking: TakingRow): Promise<CapturedTable | null> {
    const { source_id: sourceId, type_id: typeId } = taking
    const { plan, version } = await planInForce(this.#db, sourceId)
    const tables = await this.#sources.refresh(sourceId)
    const { install } = await installation(this.#db, sourceId, tables, emptyPlan, plan, version)
    const table = install.find((one) => one.typeId === typeId)
    const fields = stillTracked(plan, typeId, taking.field_ids).flatMap(
      (fieldId) => table?.fields.find((field) => field.fieldId === fieldId) ?? [],
    )
    if (!table || fields.length === 0) return null
    if (fields.length < taking.field_ids.length) {
      if (taking.records !== '0') return null
      taking.field_ids = fields.map((field) => field.fieldId)
      await this.#db('spoor.taking').where({ id: taking.id }).update({ field_ids: taking.field_ids })
    }
    return { ...table, fields }
  }

  /** Records whose key changed while others were read may have been passed over. */
  async #moved(source: Database, taking: TakingRow, table: CapturedTable): Promise<Read> {
    // What is not in the outbox any more is in the ledger, so the ledger is asked last.
    const { rows: waiting } = await source.raw<{ rows: { key: string }[] }>(
      'select key from spoor_capture.outbox where type_id = ? and key_before is not null',
      [taking.type_id],
    )
    const collected = await this.#db('ledger.save')
      .where({ type_id: taking.type_id })
      .whereNotNull('key_before')
      // What was written in a transaction that was under way then came about before, and by another clock.
      .whereRaw(`captured_at > ?::timestamptz - interval '7 days'`, [taking.began_at])
      .distinct()
      .pluck<string[]>('record_key')
    const keys = [...new Set([...waiting.map((row) => canonicalKey(row.key) ?? row.key), ...collected])]
    if (keys.length === 0) return { at: '', snapshot: '', rows: [] }
    const known = new Set(
      await this.#db('ledger.found')
        .where({ taking_id: taking.id })
        .whereRaw('record_key = any(?::text[])', [boundArray(keys)])
        .pluck<string[]>('record_key'),
    )
    return await readByKeys(
      source,
      table,
      keys.filter((key) => !known.has(key)),
    )
  }

  /** @returns how many records it kept */
  async #keep(taking: TakingRow, table: CapturedTable, read: Read, lastKey: string | null): Promise<number> {
    if (read.rows.length === 0) return 0
    read = { ...read, rows: await this.#called(read.rows) }
    await this.#names.learn(taking.type_id, valuesHeld(table, read.rows))
    return await this.#db.transaction(async (trx) => {
      const now = (await trx<TakingRow>('spoor.taking').where({ id: taking.id }).forUpdate().first())!
      const lines: string[] = []
      const salts = randomBytes(read.rows.length * saltBytes)
      for (const [at, row] of read.rows.entries()) {
        if (at % slice === slice - 1) await breathe()
        const salt = salts.toString('hex', at * saltBytes, (at + 1) * saltBytes)
        lines.push(this.#line({ taking, table, read }, row, { salt, place: Number(now.records) + at }))
      }
      await copyInto(
        trx,
        'ledger.found',
        [
          'taking_id',
          'place',
          'type_id',
          'record_key',
          'label',
          'parent_key',
          'at',
          'snapshot',
          'vals',
          'salt',
          'leaf',
        ],
        lines,
      )
      await trx.raw(
        // In the collector's order: of two who note the same records in orders of their own, each may wait for the other.
        `insert into spoor.record (type_id, record_key, label, deleted)
         select ?, w.key, w.label, false from unnest(?::text[], ?::text[]) as w(key, label)
          order by w.key collate "C" on conflict do nothing`,
        [taking.type_id, boundArray(read.rows.map((row) => row.key)), boundArray(read.rows.map((row) => row.label))],
      )
      await trx('spoor.taking')
        .where({ id: taking.id })
        .update({ last_key: lastKey, records: Number(now.records) + read.rows.length })
      return read.rows.length
    })
  }

  /** Rows with their labels, where those are made of what other records are called. */
  async #called(rows: readonly HeldRow[]): Promise<HeldRow[]> {
    const made = rows.map((row) => ({ row, parts: readLabelParts(row.label_of) }))
    const names = await this.#names.of(made.flatMap(({ parts }) => (parts === null ? [] : namedBy(parts))))
    return made.map(({ row, parts }) => ({ ...row, label: calledBy(row.label, parts, names) }))
  }

  #line(
    { taking, table, read: { at, snapshot } }: { taking: TakingRow; table: CapturedTable; read: Read },
    row: HeldRow,
    { salt, place }: { salt: string; place: number },
  ): string {
    const values = (JSON.parse(row.vals) as (string | null)[]).map((value, n) =>
      value !== null && table.fields[n]!.keep === 'fingerprint' ? fingerprint(this.#fingerprintKey, value) : value,
    )
    const placed = { ...row, place: String(place), record_key: row.key, at, snapshot }
    const fieldSalts = foundSalts(sha256Hex, salt, taking.field_ids)
    const canonical = canonicalOf(taking, placed, (_, n) => commitment(sha256Hex, fieldSalts[n]!, values[n] ?? null))
    return copyLine(
      [taking.id, place, taking.type_id, row.key, row.label, row.parent_key, at, snapshot, JSON.stringify(values)],
      salt,
      leafOf(canonical),
    )
  }
}

function* valuesHeld(table: CapturedTable, rows: readonly HeldRow[]): Generator<[fieldId: number, value: string]> {
  for (const row of rows)
    for (const [at, value] of (JSON.parse(row.vals) as (string | null)[]).entries())
      if (value !== null) yield [table.fields[at]!.fieldId, value]
}

const leavesAtOnce = 20_000

/** The root of everything that a taking kept, in the order of its places. */
async function rootOfTaking(trx: Knex, takingId: number, size: number): Promise<string> {
  const grown = new GrowingRoot(sha256)
  for (let from = 0; from < size; from += leavesAtOnce) {
    const rows = await trx('ledger.found')
      .where({ taking_id: takingId })
      .where('place', '>=', from)
      .where('place', '<', from + leavesAtOnce)
      .orderBy('place')
      .select<{ leaf: Buffer }[]>('leaf')
    for (const { leaf } of rows) grown.push(0, new Uint8Array(leaf))
    await breathe()
  }
  return toHex(grown.root())
}

/** Ends a taking: its root goes into the chain of events, which is sealed. */
async function conclude(trx: Knex.Transaction, takingId: number, whole: boolean): Promise<{ records: number }> {
  const taking = (await trx<TakingRow>('spoor.taking').where({ id: takingId }).forUpdate().first())!
  const type = await trx('spoor.record_type').where({ id: taking.type_id }).first<{ plural: string }>('plural')
  const records = Number(taking.records)
  const root = await rootOfTaking(trx, takingId, records)
  const words = takingWords({ taking: takingId, records, whole, plural: type.plural, root })
  await trx('spoor.taking')
    .where({ id: takingId })
    .update({ state: whole ? 'whole' : 'stopped', ended_at: trx.fn.now(), root })
  await recordEvent(trx, { kind: 'tracking', personId: null, sourceId: taking.source_id, words })
  return { records }
}

/** @throws Problem when there is nothing of the type to take in */
export async function takeFoundAgain(db: Database, typeId: number, personId: number): Promise<void> {
  const type = await db('spoor.record_type')
    .where({ id: typeId })
    .first<{ source_id: number; plural: string } | undefined>('source_id', 'plural')
  if (!type) throw new Problem('not-found', 'There is no such record type.')
  const inForce = await planInForce(db, type.source_id)
  if (!inForce.plan.types[typeId] || rulesOf(inForce.plan, typeId).asFound === 'leave')
    throw new Problem(
      'rule-broken',
      `By the plan in force, what ${type.plural} hold is not taken in. Nothing was asked.`,
    )
  await db.transaction(async (trx) => {
    await takeAgain(trx, typeId, { sourceId: type.source_id, ...inForce }, personId)
    await recordEvent(trx, {
      kind: 'tracking',
      personId,
      sourceId: type.source_id,
      words: `asked that what ${type.plural} hold be taken in again`,
    })
  })
}
