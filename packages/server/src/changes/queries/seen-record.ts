import type { Scope } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../../database/knex.ts'
import { whereScope } from '../../ledger/scope-sql.ts'

/**
 * A record as whoever has a limited reach knows it: by the latest save of it within that reach. What it is called in
 * lists may come from a save that they may not see. A subquery, to be joined laterally to `outer`, which has the type and
 * the key.
 */
export function seenRecord(db: Database, reach: Scope, nowMs: number, outer: string): Knex.QueryBuilder {
  const query = db('ledger.save as s')
    .whereRaw('s.type_id = ??.type_id and s.record_key = ??.record_key', [outer, outer])
    .orderBy([
      { column: 's.captured_at', order: 'desc' },
      { column: 's.id', order: 'desc' },
    ])
    .limit(1)
    .select('s.type_id', 's.record_key', 's.label', db.raw(`s.action = 'delete' as deleted`))
  whereScope(query, reach, 'save', 's', nowMs)
  return query
}
