import { runKey, type RunKey } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'
import type { CapturedSave } from './interpret.ts'

interface OpenRun {
  id: number
  lastMs: number
  saves: number
}

/**
 * The run each save belongs to, in order. Runs that are still open are gone on with, whichever batch or server
 * began them.
 * @returns run numbers, one a save.
 */
export async function assignRuns(
  trx: Knex.Transaction,
  sourceId: number,
  saves: readonly CapturedSave[],
): Promise<number[]> {
  const perTransaction = new Map<string, number>()
  for (const { transaction } of saves) perTransaction.set(transaction, (perTransaction.get(transaction) ?? 0) + 1)
  const begun = await known(
    trx,
    sourceId,
    [...perTransaction.keys()].filter((one) => perTransaction.get(one) === 1),
  )
  const keys = saves.map((save) =>
    keyOf(save, perTransaction.get(save.transaction)! + (begun.has(save.transaction) ? 1 : 0)),
  )
  const open = await openRuns(trx, sourceId, keys)

  const fresh: { key: RunKey; save: CapturedSave; run: OpenRun; firstMs: number }[] = []
  const touched = new Set<OpenRun>()
  const runs = saves.map((save, at) => {
    const key = keys[at]!
    const atMs = Date.parse(save.at)
    let run = open.get(key.key)
    if (!run || Math.abs(atMs - run.lastMs) > key.openForMs) {
      run = { id: 0, lastMs: atMs, saves: 0 }
      open.set(key.key, run)
      fresh.push({ key, save, run, firstMs: atMs })
    }
    run.lastMs = Math.max(run.lastMs, atMs)
    run.saves++
    touched.add(run)
    return run
  })
  await insertRuns(trx, sourceId, fresh)
  const begunNow = new Set(fresh.map((one) => one.run))
  await extendRuns(
    trx,
    [...touched].filter((run) => !begunNow.has(run)),
  )
  return runs.map((run) => run.id)
}

function keyOf(save: CapturedSave, savesInTransaction: number): RunKey {
  const key = runKey(
    {
      atMs: Date.parse(save.at),
      transaction: save.transaction,
      typeId: save.typeId,
      actor: `${save.who.kind}\n${save.who.name}`,
      channel: save.channel,
      declared: save.run,
      action: save.action,
      fieldIds: Object.keys(save.delta),
    },
    savesInTransaction,
  )
  return { ...key, key: `${key.kind} ${key.key}` }
}

/** Transactions of which an earlier batch has saves already. */
async function known(trx: Knex.Transaction, sourceId: number, transactions: readonly string[]): Promise<Set<string>> {
  const keys = transactions.map((one) => `transaction ${one}`)
  const { rows } = await trx.raw<{ rows: { run_key: string }[] }>(
    'select run_key from ledger.run where source_id = ? and run_key = any(?::text[])',
    [sourceId, boundArray(keys)],
  )
  return new Set(rows.map((row) => row.run_key.slice('transaction '.length)))
}

async function openRuns(
  trx: Knex.Transaction,
  sourceId: number,
  keys: readonly RunKey[],
): Promise<Map<string, OpenRun>> {
  const { rows } = await trx.raw<{ rows: { run_key: string; id: string; last_at: string }[] }>(
    `select distinct on (run_key) run_key, id, last_at from ledger.run
      where source_id = ? and run_key = any(?::text[]) order by run_key, last_at desc`,
    [sourceId, boundArray([...new Set(keys.map((key) => key.key))])],
  )
  return new Map(rows.map((row) => [row.run_key, { id: Number(row.id), lastMs: Date.parse(row.last_at), saves: 0 }]))
}

async function insertRuns(
  trx: Knex.Transaction,
  sourceId: number,
  fresh: readonly { key: RunKey; save: CapturedSave; run: OpenRun; firstMs: number }[],
): Promise<void> {
  if (fresh.length === 0) return
  const { rows } = await trx.raw<{ rows: { id: string }[] }>(
    `insert into ledger.run (source_id, kind, run_key, declared, first_at, last_at, saves)
     select ?, kind, run_key, declared, first_at, last_at, saves
       from unnest(?::text[], ?::text[], ?::text[], ?::timestamptz[], ?::timestamptz[], ?::bigint[])
            with ordinality as r(kind, run_key, declared, first_at, last_at, saves, place) order by place
     returning id`,
    [
      sourceId,
      boundArray(fresh.map(({ key }) => key.kind)),
      boundArray(fresh.map(({ key }) => key.key)),
      boundArray(fresh.map(({ save }) => save.run)),
      boundArray(fresh.map(({ firstMs }) => new Date(firstMs).toISOString())),
      boundArray(fresh.map(({ run }) => new Date(run.lastMs).toISOString())),
      boundArray(fresh.map(({ run }) => run.saves)),
    ],
  )
  for (const [at, row] of rows.entries()) fresh[at]!.run.id = Number(row.id)
}

async function extendRuns(trx: Knex.Transaction, runs: readonly OpenRun[]): Promise<void> {
  if (runs.length === 0) return
  await trx.raw(
    `update ledger.run r set last_at = greatest(r.last_at, n.last_at), saves = r.saves + n.saves
       from unnest(?::bigint[], ?::timestamptz[], ?::bigint[]) as n(id, last_at, saves) where r.id = n.id`,
    [
      boundArray(runs.map((run) => run.id)),
      boundArray(runs.map((run) => new Date(run.lastMs).toISOString())),
      boundArray(runs.map((run) => run.saves)),
    ],
  )
}
