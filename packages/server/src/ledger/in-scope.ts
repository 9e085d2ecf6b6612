import type { Scope } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { asksChanges, whereScope } from './scope-sql.ts'

/** The saves that all scopes mean, with the column that bears their number. */
export function savesIn(db: Database, scopes: readonly Scope[], nowMs: number) {
  const byChange = scopes.some(asksChanges)
  const [table, idColumn] = byChange ? (['ledger.change', 'save_id'] as const) : (['ledger.save', 'id'] as const)
  const query = db(`${table} as r`)
  // A save is one row of its own table, and as many as it has changes in scope of the other.
  if (byChange) query.distinct('r.captured_at', `r.${idColumn} as id`)
  else query.select('r.captured_at', `r.${idColumn} as id`)
  for (const scope of scopes) whereScope(query, scope, byChange ? 'change' : 'save', 'r', nowMs)
  return [query, { [idColumn]: 'bigint' } as Record<string, 'bigint'>] as const
}

/** The changes that all scopes mean, under the same names, each with its field. */
export function changesIn(db: Database, scopes: readonly Scope[], nowMs: number) {
  const query = db('ledger.change as r').select('r.captured_at', 'r.save_id as id', 'r.field_id')
  for (const scope of scopes) whereScope(query, scope, 'change', 'r', nowMs)
  return query
}
