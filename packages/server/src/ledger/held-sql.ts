import type { HeldTest } from '@spoor/core'
import { boundArray } from '../database/knex.ts'

/** Names of a row's columns: a save's, or those that a change shares with it. */
export interface RowColumns {
  id: string
  at: string
  typeId: string
  key: string
  parentTypeId: string
  parentKey: string
}

type Bound = number | string | boolean | string[]

/**
 * The spell `h` in which a field was just after a row's save, of its record or of the record whose line that is: what comes
 * after FROM, with its bindings. Answers for fields that were read (`keepRead`).
 */
function heldAround(fieldId: number, row: RowColumns): [sql: string, bindings: Bound[]] {
  const type = '(select f.type_id from spoor.field f where f.id = ?)'
  return [
    `spoor.held h where h.field_id = ?
       and h.record_key = case when ?? = ${type} then ?? when ?? = ${type} then ?? end
       and ?? >= h.since_save and (h.until_save is null or ?? < h.until_save)
       and (h.from_at, h.from_save) <= (??, ??) and (??, ??) < (h.to_at, h.to_save)`,
    [
      fieldId,
      ...[row.typeId, fieldId, row.key, row.parentTypeId, fieldId, row.parentKey],
      ...[row.id, row.id],
      ...[row.at, row.id, row.at, row.id],
    ],
  ]
}

const columnsOf = (now: boolean) => (now ? ['h.stands', 'h.latest'] : ['h.known', 'h.value'])

/** What the record of a row held or holds by now, in a JSON list of one; NULL where it is not known. */
export function heldBy(
  { fieldId, now }: Pick<HeldTest, 'fieldId' | 'now'>,
  row: RowColumns,
): [sql: string, bindings: Bound[]] {
  const [around, bound] = heldAround(fieldId, row)
  const [isKnown, value] = columnsOf(now)
  return [`(select json_build_array(${value}) from ${around} and ${isKnown} limit 1)`, bound]
}

/** Whether a test holds of a row. Never NULL, so that it can be turned round. */
export function heldHolds({ fieldId, now, values }: HeldTest, row: RowColumns): [sql: string, bindings: Bound[]] {
  const [around, bound] = heldAround(fieldId, row)
  const [isKnown, value] = columnsOf(now)
  return [
    `exists (select from ${around} and ${isKnown} and (${value} = any(?::text[]) or (${value} is null and ?)))`,
    [...bound, boundArray(values.filter((one) => one !== null)), values.includes(null)],
  ]
}
