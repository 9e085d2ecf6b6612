import { boundArray, type Database } from '../database/knex.ts'
import { errorCode } from '../errors.ts'

/** One row of the outbox as text; nothing of it has been believed yet. */
export interface OutboxRow {
  seq: string
  captured_at: string
  transaction_id: string
  type_id: number
  plan_version: number
  action: string
  key: string
  key_before: string | null
  label: string
  delta: string
  context: string | null
  login: string
  application_name: string | null
  client_address: string | null
}

/**
 * Committed rows in capture order. Rows of transactions still running are not visible and come in a later read:
 * what is taken is remembered by its number, not by "everything below", so none can be skipped.
 * @returns null when nothing was ever installed in the source.
 */
export async function readOutbox(source: Database, limit: number): Promise<OutboxRow[] | null> {
  try {
    const { rows } = await source.raw<{ rows: OutboxRow[] }>(
      `select seq::text, captured_at, transaction_id::text, type_id, plan_version, action, key, key_before, label, delta,
              context, login, application_name, client_address
         from spoor_capture.outbox order by seq limit ?`,
      [limit],
    )
    return rows
  } catch (error) {
    if (errorCode(error) === '42P01') return null
    throw error
  }
}

export async function emptyOutbox(source: Database, seqs: readonly string[]): Promise<void> {
  if (seqs.length === 0) return
  await source.raw('delete from spoor_capture.outbox where seq = any(?::bigint[])', [boundArray(seqs)])
}

/** How many numbers were drawn after `seq`: about how many rows wait behind it. */
export async function waitingAfter(source: Database, seq: string): Promise<number> {
  const { rows } = await source.raw<{ rows: { waiting: string }[] }>(
    `select greatest(last_value - ?::bigint, 0)::text as waiting from spoor_capture.outbox_seq_seq`,
    [seq],
  )
  return Number(rows[0]?.waiting ?? 0)
}
