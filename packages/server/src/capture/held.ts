import { quoteIdentifier as id } from '../database/identifier.ts'
import { named, Statements } from './statements.ts'
import { qualified, type CapturedTable } from './table.ts'

const saltHere = `(select m.value from spoor_capture.meta m where m.name = 'salt')`

const statements = (table: CapturedTable) => new Statements(table, 0, { shifted: false, salt: saltHere })

/** What is read of a record as it is, the way its triggers would tell of it. */
export interface HeldRow {
  key: string
  label: string
  /** What it is made of, as JSON, where part of it is what another record is called. */
  label_of: string | null
  parent_key: string | null
  /** A JSON array of texts or nulls, in the order of the table's fields. */
  vals: string
}

/**
 * Reads records in the order of their keys, by the number of rows in the last parameter.
 * @param after whether to begin after the key whose parts are the parameters before
 */
export function heldInOrder(table: CapturedTable, after: boolean): string {
  const key = table.keyColumns.map((column) => `x.${id(column.name)}`)
  const parts = key.map((_, at) => `$${at + 1}`)
  const beyond = after ? `where (${key.join(', ')}) > (${parts.join(', ')})` : ''
  const limit = after ? `$${key.length + 1}` : '$1'
  return `select ${statements(table).held()} from ${qualified(table)} x ${beyond} order by ${key.join(', ')} limit ${limit}`
}

/** Reads the records whose keys are in the parameter, however they are spaced. */
export function heldByKey(table: CapturedTable): string {
  const all = statements(table)
  return `select ${all.held()} from ${qualified(table)} x where (${all.key(named('x'))})::pg_catalog.jsonb = any($1::pg_catalog.jsonb[])`
}
