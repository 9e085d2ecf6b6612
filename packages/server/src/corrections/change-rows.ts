import { grouped, type RevertedChange } from '@spoor/core'
import { Problem } from '../errors.ts'

/** A change as the ledger has it, with what its save did. */
export interface ChangeRow {
  save_id: string
  captured_at: string
  source_id: number
  transaction_id: string
  action: RevertedChange['action']
  erased: boolean
  type_id: number
  record_key: string
  field_id: number
  label: string
  before: string | null
  after: string | null
}

/** Of saves `s` and their changes `c`. */
export const columns = `c.save_id, to_char(c.captured_at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as captured_at, s.source_id,
  s.transaction_id, s.action, c.erased, c.type_id, c.record_key, c.field_id, s.label, c.before, c.after`

/** So many changes does one correction take. */
export const mostChanges = 200_000

export const tooMany = () =>
  new Problem(
    'too-many-to-revert',
    `There are more than ${grouped(mostChanges)} changed values in it. Nothing was drafted; narrow it, by days say, and make several corrections.`,
  )
