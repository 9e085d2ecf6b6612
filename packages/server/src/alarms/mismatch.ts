import { raiseAlarmBy, type Wrong } from './alarms.ts'
import type { Database, Run } from '../database/knex.ts'
import { runIn } from '../database/plain.ts'

/** Something of the ledger that is not as it was written. */
export type Mismatch = Omit<Wrong, 'code' | 'sourceId' | 'checkId' | 'place'> & {
  /** What it is about, the same in each check that finds it. */
  place: string
}

/** Raises an alarm about it, and writes it down in the ledger. @returns whether it is new. */
export async function keepMismatch(db: Database, checkId: number | null, mismatch: Mismatch): Promise<boolean> {
  return await db.transaction((trx) => keepMismatchBy(runIn(trx), checkId, mismatch))
}

/** The same within a transaction that is under way. */
export async function keepMismatchBy(run: Run, checkId: number | null, mismatch: Mismatch): Promise<boolean> {
  const fresh = await raiseAlarmBy(run, { ...mismatch, code: 'ledger-altered', sourceId: null, checkId })
  if (fresh)
    await run(`insert into ledger.event (kind, outcome, words) values ('custody', 'done', $1)`, [
      `found the ledger altered: ${mismatch.words}`,
    ])
  return fresh
}

/** The place of a mismatch that is about a row of a covered table. */
export const placeOfRow = (table: string, key: string) => `fact ${table} ${key}`

/** The row of {@link placeOfRow}. */
export function rowOfPlace(place: string): { relation: string; key: string } | null {
  const [, relation, key] = /^fact (\S+) (.*)$/s.exec(place) ?? []
  return relation === undefined || key === undefined ? null : { relation, key }
}
