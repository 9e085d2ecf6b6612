import {
  counted,
  fieldPlan,
  following,
  foldRows,
  itemPlace,
  namedBy,
  placeOfRecord,
  writesOf,
  type GuardedWrite,
  type RecordAct,
  type RehearsedItem,
} from '@spoor/core'
import type { Effect, Refusal } from '@spoor/contract'
import type { Knex } from 'knex'
import type { DatabaseError } from 'pg'
import { maskedFields } from '../ledger/masked.ts'
import { calledNow } from '../ledger/called.ts'
import { interpret } from '../collector/interpret.ts'
import { calledBy } from '../capture/label-parts.ts'
import { readOwnOutbox } from '../capture/outbox.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { recordEvent } from '../ledger/events.ts'
import { errorCode, Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable, unreachable } from '../sources/trouble.ts'
import { applying, noteAttempt, outcomeOf, settleAs, type Attempt } from './attempt.ts'
import { choose, chosenAnew, type RehearsalChoices } from './choices.ts'
import { addItems, blockedWords, noSuch, readItems, type HeadRow, type KeptItem, type KeptTrial } from './store.ts'
import { demandSecondPerson, withdraw } from './approval.ts'
import { compare, type Comparable, type Compared } from './compare.ts'
import { hasOrders, inOrder, keptThen, type Orderly } from './orders.ts'
import type { JobAtWork } from '../work/work.ts'
import { ActRefused, lockCurrent, writeActs, type Tell } from './source-writer.ts'
import { planInForce } from '../tracking/plan-store.ts'
import { referencesIn, writableTables } from './tables.ts'

export interface CarryOutDeps {
  db: Database
  sources: Sources
}

const telling =
  (job: Pick<JobAtWork, 'progress'> | undefined, doing: string): Tell =>
  async (done) =>
    job?.progress({ doing, done })

/** Ends a trial: the source's transaction is rolled back and this carries what it showed. */
class TrialOver extends Error {
  readonly trial: Trial
  constructor(trial: Trial) {
    super('trial over')
    this.trial = trial
  }
}

interface Trial {
  refusal: string | null
  refused: Refusal[]
  effects: Effect[]
  removeFirst: boolean
}

export interface Plan extends Comparable, Orderly {
  sourceId: number
  /** Whether what the source says of a row may hold a masked value. */
  hidesRows: boolean
  /** As the last rehearsal found that the source takes it. */
  removeFirst: boolean
}

/**
 * Compares a draft with the source as it is now and tries its writes for real in a transaction that is rolled
 * back, so that the source's own constraints and triggers give their verdict.
 */
export async function rehearseCorrection(
  deps: CarryOutDeps,
  correctionId: number,
  chosen: RehearsalChoices,
  person: SignedIn,
  job?: Pick<JobAtWork, 'progress'>,
): Promise<void> {
  await deps.db.transaction(async (trx) => {
    const plan = await readPlan(deps, trx, correctionId)
    await choose(trx, correctionId, plan.items, chosen)
    if (chosenAnew(chosen)) await withdraw(trx, correctionId)
    const source = await deps.sources.connection(plan.sourceId)
    let compared: Compared = { rehearsed: [], more: [] }
    const trial = await reaching(() =>
      tried(source, async (sourceTrx) => {
        compared = await compare(sourceTrx, plan, telling(job, 'comparing'))
        await declare(sourceTrx, person, 'rehearsal', correctionId)
        throw new TrialOver(
          await tryWrites(deps.db, sourceTrx, plan, writesOf(compared.rehearsed), telling(job, 'trying')),
        )
      }),
    )
    plan.items.push(...(await addItems(trx, correctionId, compared.more)))
    if (compared.rehearsed.length > 0) await storeRehearsal(trx, correctionId, plan.items, compared.rehearsed)
    await noteCompared(trx, correctionId, plan.items, person)
    const stored: KeptTrial = { at: new Date().toISOString(), ...trial }
    await trx('spoor.correction')
      .where({ id: correctionId })
      .update({ trial: JSON.stringify(stored) })
  })
}

/** A rehearsal says of a masked value whether it is still the one that was saved: that tells something of it. */
async function noteCompared(
  trx: Knex.Transaction,
  correctionId: number,
  items: readonly { fieldId: number }[],
  person: SignedIn,
): Promise<void> {
  const masked = await maskedFields(trx)
  const compared = items.filter(({ fieldId }) => masked.has(fieldId)).length
  if (compared === 0) return
  const words = `had ${counted(compared, 'masked value')} compared with what is there now, in correction ${correctionId}`
  await recordEvent(trx, { kind: 'reveal', personId: person.id, words })
}

async function tried(source: Database, attempt: (trx: Knex.Transaction) => Promise<never>): Promise<Trial> {
  try {
    return await source.transaction(attempt)
  } catch (error) {
    if (error instanceof TrialOver) return error.trial
    if (isUnreachable(error) || errorCode(error) === undefined) throw error
    return { refusal: sourceWords(error, null), refused: [], effects: [], removeFirst: false }
  }
}

const mostRefused = 200

/**
 * Writes for a trial. When the source refuses, records are tried by halves, so that those it refuses can be named;
 * a rule that is checked only at the end of the transaction speaks here too.
 */
async function tryWrites(
  db: Database,
  sourceTrx: Knex.Transaction,
  plan: Plan,
  writes: readonly GuardedWrite[],
  tell: Tell,
): Promise<Trial> {
  const acts = inOrder(plan, writes, { removeFirst: false })
  const refusal = await carriedOut(sourceTrx, plan, acts, tell)
  const others = refusal !== null && hasOrders(writes) ? inOrder(plan, writes, { removeFirst: true }) : null
  const removeFirst = others !== null && (await carriedOut(sourceTrx, plan, others, tell)) === null
  if (refusal === null || removeFirst)
    return { refusal: null, refused: [], effects: await effectsOf(db, sourceTrx, writes), removeFirst }
  const labels = new Map(plan.items.map((item) => [placeOfRecord(item), item.label]))
  const refused: Refusal[] = []
  // By halves: whatever goes through together needs no look at each.
  const search = async (some: readonly RecordAct[], words: string): Promise<void> => {
    if (refused.length >= mostRefused) return
    if (some.length > 1) {
      for (const half of [some.slice(0, some.length >> 1), some.slice(some.length >> 1)]) {
        const said = await carriedOut(sourceTrx, plan, half, tell)
        if (said !== null) await search(half, said)
      }
      return
    }
    const { typeId, key } = some[0]!
    refused.push({ typeId, key, label: labels.get(placeOfRecord({ typeId, key })) ?? key, words })
  }
  await search(acts, refusal)
  return { refusal, refused, effects: [], removeFirst: false }
}

/**
 * Carries acts out, all or none of them, with the rules that the source checks only at the end.
 * @returns what the source refuses them with, or null
 */
export async function carriedOut(
  sourceTrx: Knex.Transaction,
  plan: Plan,
  acts: readonly RecordAct[],
  tell: Tell,
): Promise<string | null> {
  await plainQuery(sourceTrx, 'savepoint writing')
  try {
    const written = await writeActs(sourceTrx, plan.tables, acts, tell)
    await plainQuery(sourceTrx, 'set constraints all immediate')
    const left = acts.filter(({ writes }) => writes.some((write) => !written.has(itemPlace(write)))).length
    if (left === 0) return null
    await plainQuery(sourceTrx, 'rollback to savepoint writing')
    return `the source leaves ${counted(left, 'record')} as ${left === 1 ? 'it is' : 'they are'}, without a word`
  } catch (error) {
    if (!(error instanceof ActRefused) && (isUnreachable(error) || errorCode(error) === undefined)) throw error
    await plainQuery(sourceTrx, 'rollback to savepoint writing')
    return sourceWords(error, plan)
  }
}

/** What a database said, with its detail where that can tell nobody a masked value: which value, which row. */
function sourceWords(error: unknown, plan: Plan | null): string {
  const { code, message, detail, schema, table, column } = error as DatabaseError
  const of = [...(plan?.tables.values() ?? [])].find((one) => one.schema === schema && one.table === table)
  const comesBack = plan?.items.filter((item) => item.act === 'recreate' && item.typeId === of?.typeId) ?? []
  const isKept = comesBack.some((item) => of!.fields.get(item.fieldId)?.column === column)
  if (code === notNull && comesBack.length > 0 && !isKept)
    return `“${column}” of ${schema}.${table} has to hold something, and what it held is not known, since it was not tracked`
  return detail && plan?.hidesRows === false ? `${message} (${detail})` : message
}

/** SQLSTATE of a NULL where none may be. */
const notNull = '23502'

/**
 * Writes a rehearsed draft, all or none. Nothing is overwritten that changed since the rehearsal: then nothing is
 * written and the draft stands. Before the source is asked to commit, its transaction is written down here: when the
 * answer is lost, or this server with it, the source says what became of it.
 */
export async function applyCorrection(
  deps: CarryOutDeps,
  correctionId: number,
  reason: string,
  person: SignedIn,
  job?: Pick<JobAtWork, 'progress'>,
): Promise<void> {
  await whileApplying(deps.db, correctionId, () => applyLocked(deps, correctionId, reason, person, job))
}

/** @throws Problem where somebody else is at it */
export async function whileApplying(db: Database, correctionId: number, work: () => Promise<void>): Promise<void> {
  const lock = applying(db, correctionId)
  if (!(await lock.holds())) throw underWay()
  try {
    await work()
  } finally {
    await lock.resign()
  }
}

/** Writes down that it is being applied. @throws Problem where this person may not, or it is no draft any more */
export async function beginAttempt(
  { db, sources }: CarryOutDeps,
  correctionId: number,
  attempt: Attempt,
  person: SignedIn,
): Promise<Plan> {
  return await db.transaction(async (trx) => {
    const read = await readPlan({ db, sources }, trx, correctionId)
    await demandSecondPerson(trx, correctionId, person)
    await noteAttempt(trx, correctionId, attempt)
    return read
  })
}

async function applyLocked(
  { db, sources }: CarryOutDeps,
  correctionId: number,
  reason: string,
  person: SignedIn,
  job: Pick<JobAtWork, 'progress'> | undefined,
): Promise<void> {
  const attempt: Attempt = { by: person.id, reason, transaction: null, written: [], overridden: [] }
  const plan = await beginAttempt({ db, sources }, correctionId, attempt, person)
  try {
    const source = await sources.connection(plan.sourceId)
    await source.transaction(async (sourceTrx) => {
      const { rehearsed, more } = await compare(sourceTrx, plan, telling(job, 'comparing'))
      if (more.length > 0) throw moved()
      demandUnmoved(plan.items, rehearsed)
      const planned = writesOf(rehearsed)
      if (planned.length === 0)
        throw new Problem(
          'nothing-to-revert',
          'No value would be written: each is as wanted already, blocked, or was changed since and is to be kept. The draft stands.',
        )
      await declare(sourceTrx, person, reason, correctionId)
      const refusal = await carriedOut(sourceTrx, plan, inOrder(plan, planned, plan), telling(job, 'writing'))
      if (refusal !== null) throw refused(refusal)
      const overridden = await overriddenOf(sourceTrx, plan, planned)
      const places = new Set(planned.map(itemPlace))
      const items = plan.items.filter((item) => places.has(itemPlace(item)))
      attempt.written = items.map((item) => item.id)
      attempt.overridden = items.filter((item) => overridden.has(itemPlace(item))).map((item) => item.id)
      const [row] = await plainQuery<{ xid: string }>(sourceTrx, 'select pg_catalog.pg_current_xact_id()::text as xid')
      attempt.transaction = row!.xid
      await noteAttempt(db, correctionId, attempt)
    })
  } catch (error) {
    await afterFailure({ db, sources }, correctionId, attempt, error, plan)
    return
  }
  await settleAs(db, correctionId, attempt, 'applied')
}

/** @throws Problem unless it went through after all */
async function afterFailure(
  { db, sources }: CarryOutDeps,
  correctionId: number,
  attempt: Attempt,
  error: unknown,
  plan: Plan,
): Promise<void> {
  // What a statement is refused with is no answer to a commit; what breaks off may be.
  const isAnswer = error instanceof Problem || (!isUnreachable(error) && errorCode(error) !== undefined)
  const outcome =
    isAnswer && attempt.transaction === null ? 'nothing written' : await outcomeOf(db, sources, correctionId, attempt)
  if (outcome === 'unknown') throw brokenOff()
  await settleAs(db, correctionId, attempt, outcome)
  if (outcome === 'applied') return
  throw sourceProblem(error, plan)
}

export const brokenOff = () =>
  new Problem(
    'source-unreachable',
    'The source broke off while the correction was being committed, and does not say what became of it. It is found out as soon as the source answers; until then the correction is neither written again nor changed.',
  )

/** What kept everything from being written, as it is said; whatever nobody foresaw as it is. */
export function sourceProblem(error: unknown, plan: Plan): unknown {
  if (error instanceof Problem) return error
  if (isUnreachable(error))
    return new Problem('source-unreachable', `${unreachable(error).words} Nothing was written and the draft is kept.`)
  return errorCode(error) === undefined ? error : refused(sourceWords(error, plan))
}

const refused = (words: string) =>
  new Problem('source-refused', `The source answered: ${words}. Nothing was written and the draft stands.`)

const underWay = () =>
  new Problem('correction-closed', 'It is being applied at this moment, or it is being found out whether it was.')

/** Places that hold something else after all, since rules of the source's own have their say after the write. */
export async function overriddenOf(
  sourceTrx: Knex.Transaction,
  plan: Plan,
  writes: readonly GuardedWrite[],
): Promise<Set<string>> {
  const items = writes.map((write) => ({ ...write, found: write.expected, target: write.value }))
  const held = await lockCurrent(sourceTrx, plan.tables, items)
  const places = items.filter((item) => {
    const now = held(item)
    return item.act === 'remove' ? now.state !== 'absent' : now.state !== 'value' || now.value !== item.value
  })
  return new Set(places.map(itemPlace))
}

function moved(): Problem {
  return new Problem(
    'correction-moved',
    'A value changed in the source after the rehearsal, so nothing was written and the draft stands. Rehearse again and look at what is new.',
  )
}

function demandUnmoved(shown: readonly KeptItem[], rehearsed: readonly RehearsedItem[]): void {
  if (rehearsed.some((item, at) => hasMoved(shown[at]!, item))) throw moved()
}

/** Whether a value is not any more as it was shown. */
export const hasMoved = (shown: KeptItem, item: RehearsedItem) =>
  item.state !== shown.state || (item.state !== 'blocked' && item.now !== shown.now)

async function readPlan({ db, sources }: CarryOutDeps, trx: Knex.Transaction, correctionId: number): Promise<Plan> {
  const head = await trx('spoor.correction')
    .where({ id: correctionId })
    .forUpdate()
    .first<Pick<HeadRow, 'source_id' | 'state' | 'trial'> | undefined>('source_id', 'state', 'trial')
  if (!head) throw noSuch(correctionId)
  if (head.state === 'applying') throw underWay()
  if (head.state !== 'draft')
    throw new Problem('correction-closed', 'It stands as it was applied. To undo it, revert the changes it made.')
  const items = await readItems(trx, correctionId)
  const discovered = await reaching(() => sources.refresh(head.source_id))
  const tables = await writableTables(db, discovered, [...new Set(items.map((item) => item.typeId))])
  // Whether a value was kept is a matter of the moment it was captured.
  const { rows } = await trx.raw<{ rows: { field_id: number }[] }>(
    `select distinct i.field_id from spoor.correction_item i join ledger.save s on s.id = i.save_id
       join spoor.plan_version p on p.source_id = s.source_id and p.version = s.plan_version
      where i.correction_id = ? and p.plan #>> array['types', i.type_id::text, 'fields', i.field_id::text, 'keep'] = 'fingerprint'`,
    [correctionId],
  )
  const masked = await maskedFields(trx)
  const hidesRows = [...tables.values()].some((table) =>
    [...table.fields.keys()].some((fieldId) => masked.has(fieldId)),
  )
  const { plan } = await planInForce(trx, head.source_id)
  const follows = following(items, (typeId, fieldId) => {
    const declared = fieldPlan(plan, typeId, fieldId)?.derivedFrom ?? []
    return declared.length === 0 && tables.get(typeId)?.fields.get(fieldId)?.generated ? null : declared
  })
  const fingerprinted = new Set(rows.map((row) => row.field_id))
  const references = await referencesIn(trx, discovered, head.source_id)
  const keptOf = await keptThen(trx, correctionId, tables)
  const removeFirst = head.trial?.removeFirst ?? false
  return { sourceId: head.source_id, items, tables, hidesRows, fingerprinted, follows, references, keptOf, removeFirst }
}

export async function declare(
  sourceTrx: Knex.Transaction,
  person: SignedIn,
  reason: string,
  correctionId: number,
): Promise<void> {
  await plainQuery(
    sourceTrx,
    `select spoor_capture.context(actor => $1, kind => 'person', channel => 'correction', reason => $2, correction => $3)`,
    [person.name, reason, correctionId],
  )
}

/** What the writes of this transaction brought about beyond themselves, read from what was captured. */
async function effectsOf(
  db: Database,
  sourceTrx: Knex.Transaction,
  writes: readonly GuardedWrite[],
): Promise<Effect[]> {
  const rows = await readOwnOutbox(sourceTrx)
  const asked = new Map(writes.map((write) => [itemPlace(write), write.value]))
  const saves = foldRows(
    rows.flatMap((row) => {
      const read = interpret(row, { logins: new Map(), identities: [] })
      return read.understood ? [read.save] : []
    }),
  )
  const known = await calledNow(
    db,
    saves.flatMap(({ labelOf }) => (labelOf === null ? [] : namedBy(labelOf))),
  )
  const names = new Map([...known].map(([place, { label }]) => [place, label]))
  return saves.flatMap((save) =>
    Object.entries(save.delta).flatMap(([fieldId, [before, after]]) => {
      const place = { typeId: save.typeId, key: save.key, fieldId: Number(fieldId) }
      // What was asked for and came about is no effect; where the source made something else of it, that is.
      return asked.get(itemPlace(place)) === after
        ? []
        : [{ ...place, label: calledBy(save.label, save.labelOf, names), before, after }]
    }),
  )
}

async function storeRehearsal(
  trx: Knex.Transaction,
  correctionId: number,
  items: readonly KeptItem[],
  rehearsed: readonly RehearsedItem[],
): Promise<void> {
  const now = rehearsed.map((item) => (item.state === 'blocked' ? null : item.now))
  const why = rehearsed.map((item) => (item.state === 'blocked' ? blockedWords(item.why) : null))
  await trx.raw(
    `update spoor.correction_item i set now = r.now, state = r.state, why = r.why, choice = r.choice, merged = r.merged
       from unnest(?::int[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[]) as r(id, now, state, why, choice, merged) where i.id = r.id`,
    [
      items.map((item) => item.id),
      now,
      rehearsed.map((item) => item.state),
      why,
      rehearsed.map((item, at) => ('choice' in item ? item.choice : items[at]!.choice)),
      rehearsed.map((item) => (item.state === 'changed-since' ? item.merged : null)),
    ].map(boundArray),
  )
  await noteWhoChanged(trx, correctionId)
}

/** Of values that changed since: the last save that did, as far as it was collected. */
async function noteWhoChanged(trx: Knex.Transaction, correctionId: number): Promise<void> {
  await trx.raw(
    `update spoor.correction_item i set since_save = case when i.state = 'changed-since' then (
         select c.save_id from ledger.change c
          where c.type_id = i.type_id and c.record_key = i.record_key and c.field_id = i.field_id and c.save_id > i.save_id
          order by c.captured_at desc, c.save_id desc limit 1) end
      where i.correction_id = ? and (i.state = 'changed-since' or i.since_save is not null)`,
    [correctionId],
  )
}

/** @throws Problem in words when the source cannot be reached. */
async function reaching<T>(work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    if (isUnreachable(error))
      throw new Problem('source-unreachable', `${unreachable(error).words} Nothing was written and the draft is kept.`)
    throw error
  }
}
