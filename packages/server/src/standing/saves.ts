import type { Hidden, StandingSave } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { keptLength } from './kept.ts'

/** A save with what it left, or of a deletion took. */
export interface TypedSave extends StandingSave {
  typeId: number
  /** Its transaction's number in the source. */
  transaction: string
  /** When Spoor had it, by Spoor's clock. */
  collectedAt: string
}

interface Row {
  id: string
  captured_at: string
  collected_at: string
  type_id: number
  transaction_id: string
  record_key: string
  key_before: string | null
  label: string
  action: StandingSave['action']
  /** Each `[field, before, after, erased, cut]`. */
  changes: [number, string | null, string | null, boolean, boolean][]
}

/** Saves in the order of the ledger by a condition on `s`, values cut. */
export async function readSaves(
  db: Database,
  condition: string,
  bindings: readonly (string | number)[],
  limit: number,
): Promise<TypedSave[]> {
  const { rows } = await db.raw<{ rows: Row[] }>(
    `select s.id, s.captured_at, s.collected_at, s.type_id, s.transaction_id, s.record_key, s.key_before, s.label, s.action,
       (select coalesce(json_agg(json_build_array(c.field_id, case when s.action = 'delete' then left(c.before, ?) end, left(c.after, ?), c.erased,
            length(case when s.action = 'delete' then c.before else c.after end) > ?)), '[]')
          from ledger.change c where c.captured_at = s.captured_at and c.save_id = s.id) as changes
       from ledger.save s where ${condition} order by s.id limit ?`,
    [keptLength, keptLength, keptLength, ...bindings, limit],
  )
  return rows.map(
    ({ id, captured_at, collected_at, type_id, transaction_id, record_key, key_before, label, action, changes }) => ({
      id,
      at: captured_at,
      typeId: type_id,
      transaction: transaction_id,
      collectedAt: collected_at,
      key: record_key,
      keyBefore: key_before,
      label,
      action,
      changes: changes.map(([fieldId, before, after, erased, cut]) => ({
        fieldId,
        before,
        after,
        hidden: erased ? ('erased' satisfies Hidden) : null,
        ...(cut && { cut }),
      })),
    }),
  )
}
