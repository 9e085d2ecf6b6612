import { setTimeout as sleep } from 'node:timers/promises'
import { counted, emptyPlan, keepOf, listed, type TrackingPlan } from '@spoor/core'
import type { Knex } from 'knex'
import { readInOrder } from '../capture/reading.ts'
import type { CapturedTable } from '../capture/table.ts'
import { readRows } from '../corrections/source-writer.ts'
import { writableTables } from '../corrections/tables.ts'
import { instantText, type Database } from '../database/knex.ts'
import { errorCode, Problem } from '../errors.ts'
import { fingerprint } from '../ledger/fingerprint.ts'
import { discover } from '../sources/discover.ts'
import type { Sources } from '../sources/registry.ts'
import { aboutRows } from '../sources/size.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { installation } from '../tracking/capture-plan.ts'
import { planInForce } from '../tracking/plan-store.ts'
import { ask } from '../work/jobs.ts'
import type { JobAtWork, JobEnd, JobHandler } from '../work/work.ts'
import { confirm, keptTexts, type Held } from './confirm.ts'
import { endDifferences, keepDifferences, placesOf, tellAlarms, type OfType } from './keep.ts'

/** Records that are read at once: few enough that nothing of the business waits for them. */
const atOnce = 4000
/** After each reading the source rests for so much of the time that it took. */
const restShare = 1
/** So many that do not agree are looked at again together. */
const doubtfulAtOnce = 500
/** Of more of one type nobody is helped by each: they are counted, and the first are kept. */
const mostKept = 5000

interface Wish {
  typeIds: number[]
}

/**
 * Holds what every record of some types holds against what the trail says: a few thousand at a time in the order of their
 * keys, as one text each; what is not the same is looked at closely, again, until nothing of it is on its way.
 */
export class Reconciling implements JobHandler {
  readonly kind = 'reconciling'
  readonly #db: Database
  readonly #sources: Sources
  readonly #fingerprintKey: Buffer

  constructor(db: Database, sources: Sources, fingerprintKey: Buffer) {
    this.#db = db
    this.#sources = sources
    this.#fingerprintKey = fingerprintKey
  }

  async due(db: Database): Promise<void> {
    const row = await db('spoor.reconciling')
      .whereRaw('every_hours is not null and next_at <= now()')
      .first<{ sole: boolean } | undefined>('sole')
    if (!row) return
    await db.transaction(async (trx) => {
      const typeIds = await trackedTypes(trx)
      if (typeIds.length > 0) await askToReconcile(trx, typeIds, null)
      await trx('spoor.reconciling').update({ next_at: trx.raw('now() + make_interval(hours => every_hours)') })
    })
  }

  async perform(job: JobAtWork): Promise<JobEnd> {
    const { typeIds } = job.input as Wish
    const outcome = { records: 0, differing: 0, moving: 0 }
    const leftOut: string[] = []
    for (const typeId of typeIds) {
      const done = await this.#type(job, typeId, outcome.records)
      if (typeof done === 'string') leftOut.push(done)
      else for (const name of ['records', 'differing', 'moving'] as const) outcome[name] += done[name]
    }
    const { records, differing, moving } = outcome
    return {
      words: [
        `Held ${counted(records, 'record')} against their trail: ${differing === 0 ? 'all as it says' : counted(differing, 'difference')}.`,
        ...(moving > 0 ? [`${counted(moving, 'record')} went on changing, and nothing can be said of them.`] : []),
        ...(leftOut.length > 0 ? [`Left out: ${listed(leftOut)}.`] : []),
      ].join(' '),
      output: outcome,
    }
  }

  /** @returns words for why a type was left out */
  async #type(
    job: JobAtWork,
    typeId: number,
    before: number,
  ): Promise<{ records: number; differing: number; moving: number } | string> {
    const db = this.#db
    const type = await db('spoor.record_type')
      .where({ id: typeId })
      .first<{ source_id: number; name: string; plural: string } | undefined>('source_id', 'name', 'plural')
    if (!type) return 'a type that is gone'
    if (await isBeingTakenIn(db, typeId)) return `${type.plural}, which are being taken in`
    const held = await this.#held(type.source_id, typeId)
    if (!held) return `${type.plural}, which are not tracked in a table any more`
    const refusal = await refusedBy(() => readInOrder(held.source, held.table, null, 1))
    if (refusal !== null) return `${type.plural}, since the source answered “${refusal}”`
    const last = await db('spoor.reconciled')
      .where({ type_id: typeId })
      .orderBy('id', 'desc')
      .first<{ began_at: string } | undefined>('began_at')
    const ofType: OfType = { ...type, typeId, sourceId: type.source_id, before: last?.began_at ?? null }
    const began = await clockOf(held.source)
    const doing = `reading ${type.plural} in the order of their keys`
    const total = (await aboutRows(held.source, [held.table.relationId])).get(String(held.table.relationId)) ?? 0
    const still = new Set<string>()
    const moving = new Set<string>()
    let [records, differing, matched] = [0, 0, 0]
    const tell = async () =>
      await job.progress({ done: before + records, total: before + Math.max(total, records), doing })
    const look = async (keys: readonly string[]) => {
      const confirmed = await confirm(held, keys, tell)
      for (const place of placesOf(typeId, confirmed.differing)) still.add(place)
      for (const key of confirmed.moving) moving.add(key)
      if (differing >= mostKept) differing += confirmed.differing.length
      else if (confirmed.differing.length > 0)
        differing += await db.transaction((trx) => keepDifferences(trx, ofType, confirmed))
    }
    let doubtful: string[] = []
    for (let lastKey: string | null = null; ;) {
      await tell()
      const begunMs = performance.now()
      const { rows } = await readInOrder(held.source, held.table, lastKey, atOnce)
      const tookMs = performance.now() - begunMs
      lastKey = rows.at(-1)?.key ?? lastKey
      records += rows.length
      const kept = await keptTexts(
        db,
        held.table,
        rows.map((row) => row.key),
      )
      for (const { key, vals } of rows) if (kept.get(key) !== fingerprinted(held, vals)) doubtful.push(key)
      matched += kept.size
      for (; doubtful.length >= doubtfulAtOnce; doubtful = doubtful.slice(doubtfulAtOnce))
        await look(doubtful.slice(0, doubtfulAtOnce))
      if (rows.length < atOnce) break
      await sleep(tookMs * restShare)
    }
    await look(doubtful)
    for await (const keys of this.#missing(held, matched)) await look(keys)
    await db.transaction(async (trx) => {
      await endDifferences(trx, ofType, still, { began, moving })
      await tellAlarms(trx, ofType)
      await trx('spoor.reconciled').insert({
        type_id: typeId,
        job_id: job.id,
        began_at: began,
        ended_at: trx.raw('clock_timestamp()'),
        records,
        differing,
        moving: moving.size,
      })
    })
    return { records, differing, moving: moving.size }
  }

  /** Records that the trail knows and the source does not have: looked for where there are more of them than were met. */
  async *#missing({ db, source, table, writable }: Held, matched: number): AsyncGenerator<string[]> {
    const [all] = await db('spoor.standing')
      .where({ type_id: table.typeId, deleted: null })
      .count<{ count: string }[]>('* as count')
    if (Number(all!.count) <= matched) return
    for (let after = ''; ;) {
      const keys = await db('spoor.standing')
        .where({ type_id: table.typeId, deleted: null })
        .where('record_key', '>', after)
        .orderBy('record_key')
        .limit(atOnce)
        .pluck<string[]>('record_key')
      if (keys.length === 0) return
      after = keys.at(-1)!
      const there = await source.transaction((trx) => readRows(trx, writable, [], keys))
      const missing = keys.filter((key) => !there.has(key))
      for (let at = 0; at < missing.length; at += doubtfulAtOnce) yield missing.slice(at, at + doubtfulAtOnce)
    }
  }

  async #held(sourceId: number, typeId: number): Promise<Held | null> {
    const db = this.#db
    try {
      const { plan, version } = await planInForce(db, sourceId)
      const tables = await this.#sources.refresh(sourceId)
      const { install } = await installation(db, sourceId, tables, emptyPlan, plan, version)
      const table: CapturedTable | undefined = install.find((one) => one.typeId === typeId)
      const source = await this.#sources.connection(sourceId)
      const writable = (await writableTables(db, await discover(source), [typeId])).get(typeId)
      if (!table || !writable || table.fields.length === 0) return null
      return {
        db,
        source,
        table,
        writable,
        fingerprintKey: this.#fingerprintKey,
        whole: await isWhole(db, typeId),
        since: await trackedSince(db, typeId),
      }
    } catch (error) {
      if (isUnreachable(error))
        throw new Problem('source-unreachable', `${unreachable(error).words} What was found until then is kept.`)
      throw error
    }
  }
}

/** What a source says where it does not let something be read; null where it does. @throws when it cannot be reached */
async function refusedBy(work: () => Promise<unknown>): Promise<string | null> {
  try {
    await work()
    return null
  } catch (error) {
    if (isUnreachable(error) || errorCode(error) === undefined) throw error
    return (error as Error).message
  }
}

/** Values as the ledger has them: of some fields only a fingerprint is kept. */
function fingerprinted({ table, fingerprintKey }: Held, vals: string): string {
  if (table.fields.every(({ keep }) => keep !== 'fingerprint')) return vals
  const values = (JSON.parse(vals) as (string | null)[]).map((value, at) =>
    value !== null && table.fields[at]!.keep === 'fingerprint' ? fingerprint(fingerprintKey, value) : value,
  )
  return JSON.stringify(values)
}

async function clockOf(source: Database): Promise<string> {
  const { rows } = await source.raw<{ rows: { at: string }[] }>('select pg_catalog.clock_timestamp() as at')
  return instantText(String(rows[0]!.at))
}

/** Whether what is there is being read at this moment, or was read and is not among the others yet. */
async function isBeingTakenIn(db: Database, typeId: number): Promise<boolean> {
  const { rows } = await db.raw<{ rows: { is: boolean }[] }>(
    `select exists (select from spoor.taking t left join spoor.standing_taking s on s.taking_id = t.id
       where t.type_id = ? and (t.state = 'going' or t.records > coalesce(s.records, 0))) as is`,
    [typeId],
  )
  return rows[0]!.is
}

/** Whether everything that was there when its tracking began last was taken in. */
async function isWhole(db: Database, typeId: number): Promise<boolean> {
  const { rows } = await db.raw<{ rows: { is: boolean }[] }>(
    `select coalesce(bool_or(t.state = 'whole'), false) as is
       from (select distinct on (c.field_id) c.taking_id from spoor.coverage c join spoor.field f on f.id = c.field_id
              where f.type_id = ? order by c.field_id, c.from_at desc) latest join spoor.taking t on t.id = latest.taking_id`,
    [typeId],
  )
  return rows[0]!.is
}

/** Since when each field of a type is, or was last, tracked without a break. */
async function trackedSince(db: Database, typeId: number): Promise<Map<number, string>> {
  const rows = await db('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .where('f.type_id', typeId)
    .orderBy('c.from_at')
    .select<{ field_id: number; from_at: string }[]>('c.field_id', 'c.from_at')
  return new Map(rows.map(({ field_id, from_at }) => [field_id, from_at]))
}

/**
 * Types of which something is to be tracked by the plans in force: also where that was broken off since somebody laid hands on
 * the triggers. What was changed while nobody captured it is what is looked for.
 */
export async function trackedTypes(db: Knex): Promise<number[]> {
  const types = await db('spoor.record_type')
    .where({ present: true })
    .orderBy('id')
    .select<{ id: number; source_id: number }[]>('id', 'source_id')
  const plans = new Map<number, TrackingPlan>()
  for (const sourceId of new Set(types.map((type) => type.source_id)))
    plans.set(sourceId, (await planInForce(db, sourceId)).plan)
  return types.flatMap(({ id, source_id }) => {
    const fields = Object.keys(plans.get(source_id)!.types[id]?.fields ?? {}).map(Number)
    return fields.some((fieldId) => keepOf(plans.get(source_id)!, id, fieldId) !== 'off') ? [id] : []
  })
}

/** @throws Problem where one of them is not tracked */
export async function askToReconcile(
  trx: Knex.Transaction,
  typeIds: readonly number[],
  personId: number | null,
): Promise<number> {
  const tracked = new Set(await trackedTypes(trx))
  if (typeIds.length === 0 || typeIds.some((id) => !tracked.has(id)))
    throw new Problem('not-found', 'Nothing is tracked of that, so there is nothing to hold it against.')
  const { job } = await ask(trx, {
    kind: 'reconciling',
    subject: typeIds.length === 1 ? `type ${typeIds[0]!}` : 'all types',
    words: `Holding ${counted(typeIds.length, 'record type')} against their trail`,
    input: { typeIds: [...typeIds] } satisfies Wish,
    personId,
  })
  return job.id
}
