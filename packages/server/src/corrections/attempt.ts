import { setTimeout as sleep } from 'node:timers/promises'
import { overriddenWords } from '@spoor/contract'
import { counted } from '@spoor/core'
import type { Knex } from 'knex'
import type { Logger } from 'pino'
import { boundArray, type Database } from '../database/knex.ts'
import { Duty } from '../database/duty.ts'
import { Leadership } from '../database/leadership.ts'
import { recordEvent } from '../ledger/events.ts'
import type { Sources } from '../sources/registry.ts'
import { isUnreachable } from '../sources/trouble.ts'
import { draftRest, isUnwritten } from './rest.ts'

/** A correction that is being applied, written down before its first write. */
export interface Attempt {
  by: number
  reason: string
  /** The transaction of the source that writes; null until it is about to be committed. */
  transaction: string | null
  /** Items that it writes, and those of them in whose place the source's own rules put another value. */
  written: number[]
  overridden: number[]
  /** Whether records are written in slices, each in a transaction of its own: all but `by` and `reason` is of the last of them. */
  piecemeal?: boolean
  /** Why what was not come to was not. */
  ended?: string
}

/** Held by whoever applies a correction; gone with the server that held it. */
export const applying = (db: Database, correctionId: number) =>
  new Leadership(db, `applying correction ${correctionId}`)

/** @throws what `update` throws */
export async function noteAttempt(db: Knex, correctionId: number, attempt: Attempt): Promise<void> {
  await db('spoor.correction')
    .where({ id: correctionId })
    .update({ state: 'applying', attempt: JSON.stringify(attempt) })
}

/** Nothing was written: the draft stands as it was. */
export async function backToDraft(db: Knex, correctionId: number): Promise<void> {
  await db('spoor.correction').where({ id: correctionId, state: 'applying' }).update({ state: 'draft', attempt: null })
}

/** What was written is in the source. */
export async function markWritten(trx: Knex.Transaction, { written, overridden }: Attempt): Promise<void> {
  const over = new Set(overridden)
  await trx.raw('update spoor.correction_item set written = true where id = any(?::int[])', [
    boundArray(written.filter((id) => !over.has(id))),
  ])
  await trx.raw('update spoor.correction_item set why = ? where id = any(?::int[])', [
    overriddenWords,
    boundArray(overridden),
  ])
}

async function noteApplied(
  trx: Knex.Transaction,
  correctionId: number,
  { by, reason, piecemeal = false }: Attempt,
): Promise<void> {
  await trx('spoor.correction')
    .where({ id: correctionId })
    .update({ state: 'applied', applied_by: by, applied_at: trx.fn.now(), reason, attempt: null, piecemeal })
}

/** What was written record by record stands; what was not is drafted anew. @returns whether anything was written */
async function endPiecemeal(trx: Knex.Transaction, correctionId: number, attempt: Attempt): Promise<boolean> {
  const ofIt = () => trx('spoor.correction_item as i').where({ correction_id: correctionId })
  const [row] = await ofIt()
    .where((any) => any.where('written', true).orWhere('why', overriddenWords))
    .select<{ written: string; records: string }[]>(
      trx.raw('count(*) as written, count(distinct (type_id, record_key)) as records'),
    )
  if (row!.written === '0') {
    await ofIt().whereRaw(isUnwritten).update({ why: null })
    await backToDraft(trx, correctionId)
    return false
  }
  await noteApplied(trx, correctionId, attempt)
  await ofIt()
    .whereRaw(isUnwritten)
    .whereNull('why')
    .update({ why: attempt.ended ?? 'it was ended before it came to this record' })
  const restId = await draftRest(trx, correctionId, attempt.by)
  const rest = restId === null ? '' : `; what was left is drafted anew as correction ${restId}`
  await recordEvent(trx, {
    kind: 'correction',
    personId: attempt.by,
    words: `applied correction ${correctionId} record by record, to ${counted(Number(row!.records), 'record')}${rest}`,
  })
  return true
}

export type Outcome = 'applied' | 'nothing written' | 'unknown'

const tries = 10
const pauseMs = 300

/**
 * Whether an attempt went through: its saves are in the ledger, or the source says what became of its transaction. One
 * that is still under way there is asked for again, for some seconds.
 */
export async function outcomeOf(
  db: Database,
  sources: Sources,
  correctionId: number,
  { transaction, piecemeal = false }: Attempt,
): Promise<Outcome> {
  if (piecemeal && transaction === null) return 'nothing written'
  const own = piecemeal ? { transaction_id: transaction } : {}
  for (let asked = 0; asked < tries; asked++) {
    if (
      await db('ledger.save')
        .where({ correction_id: correctionId, ...own })
        .first('id')
    )
      return 'applied'
    if (transaction === null) return 'nothing written'
    const status = await statusOf(db, sources, correctionId, transaction)
    if (status === 'committed') return 'applied'
    if (status === 'aborted') return 'nothing written'
    await sleep(pauseMs)
  }
  return 'unknown'
}

async function statusOf(
  db: Database,
  sources: Sources,
  correctionId: number,
  transaction: string,
): Promise<string | null> {
  const row = await db('spoor.correction').where({ id: correctionId }).first<{ source_id: number }>('source_id')
  try {
    const source = await sources.connection(row.source_id)
    const { rows } = await source.raw<{ rows: { status: string | null }[] }>(
      'select pg_catalog.pg_xact_status(?::pg_catalog.xid8) as status',
      [transaction],
    )
    return rows[0]?.status ?? null
  } catch {
    // It does not answer, or it is another database, which has not come to such a transaction.
    return null
  }
}

/**
 * Finds out what became of corrections whose server stopped, or lost its source, while it applied them.
 * @returns what was found, in words, for the log
 */
export async function settleAttempts(db: Database, sources: Sources): Promise<string[]> {
  const found: string[] = []
  const open = await db('spoor.correction')
    .where({ state: 'applying' })
    .orderBy('id')
    .select<{ id: number; attempt: Attempt }[]>('id', 'attempt')
  for (const { id, attempt } of open) {
    const lock = applying(db, id)
    if (!(await lock.holds())) continue
    try {
      const outcome = await outcomeOf(db, sources, id, attempt)
      if (outcome === 'unknown') continue
      await settleAs(db, id, attempt, outcome)
      found.push(`correction ${id}: ${outcome === 'applied' ? 'it had been applied' : 'nothing had been written'}`)
    } finally {
      await lock.resign()
    }
  }
  return found
}

/** Writes down what became of an attempt. @returns whether anything was written, where it was still open */
export async function settleAs(
  db: Database,
  correctionId: number,
  attempt: Attempt,
  outcome: Exclude<Outcome, 'unknown'>,
): Promise<boolean> {
  return await db.transaction(async (trx) => {
    const row = await trx('spoor.correction').where({ id: correctionId }).forUpdate().first<{ state: string }>('state')
    if (row.state !== 'applying') return row.state === 'applied'
    if (outcome === 'applied') await markWritten(trx, attempt)
    if (attempt.piecemeal) return await endPiecemeal(trx, correctionId, attempt)
    if (outcome === 'nothing written') {
      await backToDraft(trx, correctionId)
      return false
    }
    await noteApplied(trx, correctionId, attempt)
    await recordEvent(trx, {
      kind: 'correction',
      personId: attempt.by,
      words: `applied correction ${correctionId}`,
    })
    return true
  })
}

const everyMs = 3000

/** Settles attempts that nobody else is going to. */
export function settlingAttempts(db: Database, sources: Sources, log: Logger): Duty {
  return new Duty(db, 'settling corrections', {
    round: async () => {
      for (const words of await settleAttempts(db, sources)) log.info(words)
      return everyMs
    },
    failed: (error) => {
      if (!isUnreachable(error)) log.error({ err: error }, 'corrections could not be settled')
    },
    retryMs: everyMs,
  })
}
