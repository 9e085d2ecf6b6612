import { groupBy, itemPlace, placeOfRecord, writesOf, type RecordAct, type RehearsedItem } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { errorCode, Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { isUnreachable } from '../sources/trouble.ts'
import { Stopped, type JobAtWork } from '../work/work.ts'
import { markWritten, noteAttempt, outcomeOf, settleAs, type Attempt } from './attempt.ts'
import {
  beginAttempt,
  brokenOff,
  carriedOut,
  declare,
  hasMoved,
  overriddenOf,
  sourceProblem,
  whileApplying,
  type CarryOutDeps,
  type Plan,
} from './carry-out.ts'
import { compare } from './compare.ts'
import { inOrder } from './orders.ts'
import { readRows } from './source-writer.ts'
import type { KeptItem } from './store.ts'

/** So many records are locked and written by one transaction of the source. */
const mostAtOnce = 500
/** SQLSTATE of a lock that somebody else held for too long. */
const lockHeld = '55P03'

const quiet = async () => {}

/**
 * Writes a rehearsed draft in slices of records, each in a transaction of its own that is short: what the source refuses and
 * what somebody changed since the rehearsal is left, with words, and the rest is written. It can be stopped between two slices;
 * what is not written is drafted anew.
 * @returns the number of that draft; null where all was written
 * @throws Problem where nothing at all could be written; the draft stands then
 */
export async function applyPiecemeal(
  deps: CarryOutDeps,
  correctionId: number,
  reason: string,
  person: SignedIn,
  job?: Pick<JobAtWork, 'progress'>,
): Promise<number | null> {
  const { db } = deps
  await whileApplying(db, correctionId, () => applyRecords(deps, correctionId, reason, person, job))
  const rest = await db('spoor.correction').where({ rest_of: correctionId }).max<{ id: number | null }[]>('id as id')
  return rest[0]!.id
}

async function applyRecords(
  deps: CarryOutDeps,
  correctionId: number,
  reason: string,
  person: SignedIn,
  job: Pick<JobAtWork, 'progress'> | undefined,
): Promise<void> {
  const { db, sources } = deps
  const attempt: Attempt = { by: person.id, reason, transaction: null, written: [], overridden: [], piecemeal: true }
  const plan = await beginAttempt(deps, correctionId, attempt, person)
  let first: string | null = null
  try {
    const source = await sources.connection(plan.sourceId)
    let [done, left] = [0, 0]
    for (const slice of slicesOf(plan)) {
      // Where nothing at all of the first ones goes, nobody waits for the rest to be refused one by one.
      if (done > 0 && left === done) break
      if (await isStopped(job, done)) {
        attempt.ended = 'it was stopped before it came to this record'
        break
      }
      for (const [words, items] of await writeSlice({ db, source }, { correctionId, plan, person, attempt }, slice)) {
        first ??= words
        left += items.length
        await leave(db, items, words)
      }
      done += slice.length
    }
  } catch (error) {
    if (isUnreachable(error)) attempt.ended = 'the source went away before it came to this record'
    const outcome = await outcomeOf(db, sources, correctionId, attempt)
    if (outcome === 'unknown') throw brokenOff()
    if (!(await settleAs(db, correctionId, attempt, outcome))) throw sourceProblem(error, plan)
    return
  }
  if (!(await settleAs(db, correctionId, attempt, 'nothing written')))
    throw new Problem(
      'nothing-to-revert',
      `Not one record was written${first === null ? '' : `: ${first}`}. The draft stands.`,
    )
}

/** The items of what is to be written, some records at a time, in an order that the source can take. */
function slicesOf(plan: Plan): KeptItem[][] {
  const byRecord = groupBy(plan.items, placeOfRecord)
  const wanted = inOrder(plan, writesOf(plan.items.map(asRehearsed)), plan)
  const places = [...new Set(wanted.map(placeOfRecord))]
  return Array.from({ length: Math.ceil(places.length / mostAtOnce) }, (_, at) =>
    places.slice(at * mostAtOnce, (at + 1) * mostAtOnce).flatMap((place) => byRecord.get(place)!),
  )
}

/** As the last rehearsal left it. */
const asRehearsed = (item: KeptItem) => item as unknown as RehearsedItem

async function isStopped(job: Pick<JobAtWork, 'progress'> | undefined, done: number): Promise<boolean> {
  try {
    await job?.progress({ doing: 'writing, some records at a time', done })
    return false
  } catch (error) {
    if (error instanceof Stopped) return true
    throw error
  }
}

interface Applying {
  correctionId: number
  plan: Plan
  person: SignedIn
  attempt: Attempt
}

/** @returns the items that are left, by why */
async function writeSlice(
  at: { db: Database; source: Database },
  applying: Applying,
  items: readonly KeptItem[],
): Promise<Map<string, KeptItem[]>> {
  try {
    return await writeTogether(at, applying, items)
  } catch (error) {
    if (errorCode(error) !== lockHeld || applying.attempt.transaction !== null) throw error
    const records = [...groupBy(items, placeOfRecord).values()]
    const held = await heldByOthers(at.source, applying.plan, items)
    const [own, free] = [true, false].map((is) => records.filter(([first]) => held.has(placeOfRecord(first!)) === is))
    // What is held may be what a trigger wants to write to: then it is looked for by halves.
    if (own!.length === 0 && records.length === 1) own!.push(free!.pop()!)
    const left = new Map(own!.length === 0 ? [] : [[heldWords, own!.flat()]])
    const half = own!.length > 0 ? free!.length : free!.length >> 1
    for (const some of [free!.slice(0, half), free!.slice(half)])
      if (some.length > 0)
        for (const [words, others] of await writeSlice(at, applying, some.flat()))
          left.set(words, [...(left.get(words) ?? []), ...others])
    return left
  }
}

const heldWords = 'somebody else held it for more than three seconds'

/** Places of records whose rows somebody else has locked. */
async function heldByOthers(source: Database, { tables }: Plan, items: readonly KeptItem[]): Promise<Set<string>> {
  const held = new Set<string>()
  await source.transaction(async (trx) => {
    for (const [typeId, ofType] of groupBy(items, (item) => item.typeId)) {
      const table = tables.get(typeId)
      if (!table) continue
      const keys = [...new Set(ofType.map(({ key }) => key))]
      const free = await readRows(trx, table, [], keys, { lock: 'for update of t skip locked' })
      for (const key of (await readRows(trx, table, [], keys)).keys())
        if (!free.has(key)) held.add(placeOfRecord({ typeId, key }))
    }
  })
  return held
}

/** Ends a transaction of the source in which nothing was written. */
class NothingWritten extends Error {}

async function writeTogether(
  { db, source }: { db: Database; source: Database },
  { correctionId, plan, person, attempt }: Applying,
  items: readonly KeptItem[],
): Promise<Map<string, KeptItem[]>> {
  /** Why a record is left, by its place. */
  const left = new Map<string, string>()
  try {
    await source.transaction(async (sourceTrx) => {
      const { rehearsed, more } = await compare(sourceTrx, { ...plan, items: [...items] }, quiet)
      const moved = [...more, ...items.filter((item, place) => hasMoved(item, rehearsed[place]!))]
      for (const item of moved) left.set(placeOfRecord(item), 'somebody changed it after the rehearsal')
      const planned = writesOf(rehearsed.filter((item) => !left.has(placeOfRecord(item))))
      await declare(sourceTrx, person, attempt.reason, correctionId)
      await writeWhatGoes(sourceTrx, plan, inOrder(plan, planned, plan), left)
      const writes = planned.filter((write) => !left.has(placeOfRecord(write)))
      if (writes.length === 0) throw new NothingWritten()
      const overridden = await overriddenOf(sourceTrx, plan, writes)
      const places = new Set(writes.map(itemPlace))
      const written = items.filter((item) => places.has(itemPlace(item)))
      attempt.written = written.map(({ id }) => id)
      attempt.overridden = written.filter((item) => overridden.has(itemPlace(item))).map(({ id }) => id)
      const [row] = await plainQuery<{ xid: string }>(sourceTrx, 'select pg_catalog.pg_current_xact_id()::text as xid')
      attempt.transaction = row!.xid
      await noteAttempt(db, correctionId, attempt)
    })
    await db.transaction(async (trx) => {
      await markWritten(trx, attempt)
      Object.assign(attempt, { transaction: null, written: [], overridden: [] })
      await noteAttempt(trx, correctionId, attempt)
    })
  } catch (error) {
    if (!(error instanceof NothingWritten)) throw error
  }
  return groupBy(
    items.filter((item) => left.has(placeOfRecord(item))),
    (item) => left.get(placeOfRecord(item))!,
  )
}

/** Writes acts; when the source refuses, by halves of their records. @param left gets those that it refuses */
async function writeWhatGoes(
  sourceTrx: Knex.Transaction,
  plan: Plan,
  acts: readonly RecordAct[],
  left: Map<string, string>,
): Promise<void> {
  if (acts.length === 0) return
  // Without the row that the source adds to its words, they are the same for all that one rule refuses.
  const refusal = await carriedOut(sourceTrx, { ...plan, hidesRows: true }, acts, quiet)
  if (refusal === null) return
  const places = [...new Set(acts.map(placeOfRecord))]
  if (places.length === 1) {
    left.set(places[0]!, `the source answered: ${refusal}`)
    return
  }
  const half = new Set(places.slice(0, places.length >> 1))
  for (const inHalf of [true, false])
    await writeWhatGoes(
      sourceTrx,
      plan,
      acts.filter((act) => half.has(placeOfRecord(act)) === inHalf),
      left,
    )
}

async function leave(db: Database, items: readonly KeptItem[], words: string): Promise<void> {
  await db.raw(
    `update spoor.correction_item set why = ? where id = any(?::int[]) and state in ('clear', 'changed-since')`,
    [words, boundArray(items.map(({ id }) => id))],
  )
}
