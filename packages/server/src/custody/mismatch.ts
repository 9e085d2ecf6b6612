import type { Database, Run } from '../database/knex.ts'
import { runIn } from '../database/plain.ts'

/** Something of the ledger that is not as it was written. */
export interface Mismatch {
  /** What it is about, the same in each check that finds it. */
  place: string
  words: string
  saveId?: string
  fieldId?: number
  /** Digests: the one that is stored, and the one that what is there has. */
  stored?: string
  expected?: string
  /** Between which two seals it lies. */
  afterSeal?: number | null
  beforeSeal?: number | null
}

/** Keeps an alarm until somebody deals with it, and writes it down in the ledger. @returns whether it is new. */
export async function keepMismatch(db: Database, checkId: number | null, mismatch: Mismatch): Promise<boolean> {
  return await db.transaction((trx) => keepMismatchBy(runIn(trx), checkId, mismatch))
}

/** The same within a transaction that is under way. */
export async function keepMismatchBy(run: Run, checkId: number | null, mismatch: Mismatch): Promise<boolean> {
  const rows = await run(
    `insert into spoor.mismatch (check_id, place, words, save_id, field_id, stored, expected, after_seal, before_seal)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9) on conflict (place) where settled_at is null do nothing returning id`,
    [
      checkId,
      mismatch.place,
      mismatch.words,
      mismatch.saveId ?? null,
      mismatch.fieldId ?? null,
      mismatch.stored ?? null,
      mismatch.expected ?? null,
      mismatch.afterSeal ?? null,
      mismatch.beforeSeal ?? null,
    ],
  )
  if (rows.length === 0) return false
  await run(`insert into ledger.event (kind, outcome, words) values ('custody', 'done', $1)`, [
    `found the ledger altered: ${mismatch.words}`,
  ])
  return true
}
