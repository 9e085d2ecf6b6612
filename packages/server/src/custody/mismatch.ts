import type { Database } from '../database/knex.ts'
import { recordEvent } from '../people/events.ts'

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
  return await db.transaction(async (trx) => {
    const { rows } = await trx.raw<{ rows: unknown[] }>(
      `insert into spoor.mismatch (check_id, place, words, save_id, field_id, stored, expected, after_seal, before_seal)
       values (?, ?, ?, ?, ?, ?, ?, ?, ?) on conflict (place) where settled_at is null do nothing returning id`,
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
    await recordEvent(trx, { kind: 'custody', personId: null, words: `found the ledger altered: ${mismatch.words}` })
    return true
  })
}
