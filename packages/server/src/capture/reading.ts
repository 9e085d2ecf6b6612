import { canonicalKey } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { heldByKey, heldInOrder, type HeldRow } from './held.ts'
import type { CapturedTable } from './table.ts'

/** Records that are read at once: few enough that nothing of the business waits for them. */
export const atOnce = 2000

/** What was read in one go, and as of when. */
export interface Read {
  at: string
  snapshot: string
  rows: HeldRow[]
}

/** Reads as of one moment, which is said with what was read. */
async function reading(source: Database, work: (trx: Knex.Transaction) => Promise<HeldRow[]>): Promise<Read> {
  return await source.transaction(async (trx) => {
    await plainQuery(trx, 'set transaction isolation level repeatable read, read only')
    // What a policy would hide would be missing in silence; so it fails instead.
    await plainQuery(trx, 'set local row_security = off; set local search_path = pg_catalog, pg_temp')
    const [moment] = await plainQuery<{ snapshot: string; at: string }>(
      trx,
      'select pg_catalog.pg_current_snapshot()::text as snapshot, pg_catalog.clock_timestamp() as at',
    )
    return { at: moment!.at, snapshot: moment!.snapshot, rows: (await work(trx)).map(canonical) }
  })
}

/** Keys as the ledger writes them. */
function canonical(row: HeldRow): HeldRow {
  const key = (text: string) => canonicalKey(text) ?? text
  return { ...row, key: key(row.key), parent_key: row.parent_key === null ? null : key(row.parent_key) }
}

/** The next records of a table in the order of their keys. */
export async function readInOrder(
  source: Database,
  table: CapturedTable,
  lastKey: string | null,
  limit = atOnce,
): Promise<Read> {
  const parts = lastKey === null ? [] : (JSON.parse(lastKey) as string[])
  return await reading(source, (trx) =>
    plainQuery<HeldRow>(trx, heldInOrder(table, lastKey !== null), [...parts, limit]),
  )
}

/** Some records of a table, by their keys. */
export async function readByKeys(source: Database, table: CapturedTable, keys: readonly string[]): Promise<Read> {
  return await reading(source, (trx) => plainQuery<HeldRow>(trx, heldByKey(table), [keys]))
}
