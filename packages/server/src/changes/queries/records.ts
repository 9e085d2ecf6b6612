import type { Scope } from '@spoor/core'
import type { RecordLine } from '@spoor/contract'
import type { Database } from '../../database/knex.ts'
import { isLimited, reachIn } from '../../ledger/reach.ts'
import { seenRecord } from './seen-record.ts'
import { asksChanges, whereScope } from '../../ledger/scope-sql.ts'

const pageSize = 100

/** Records that all scopes mean, with their counts inside them; the latest or the most changed first. */
export async function listRecords(
  db: Database,
  scopes: readonly Scope[],
  { order, page }: { order: 'latest' | 'most'; page: number },
  nowMs: number,
): Promise<{ records: RecordLine[]; more: boolean }> {
  const byChange = scopes.some(asksChanges)
  const reach = reachIn(scopes)
  const rows = db(byChange ? 'ledger.change as r' : 'ledger.save as r')
  for (const scope of scopes) whereScope(rows, scope, byChange ? 'change' : 'save', 'r', nowMs)
  const measure = byChange
    ? 'count(distinct r.save_id) as saves, count(*) as changes'
    : 'count(*) as saves, sum((select count(*) from ledger.change c where c.save_id = r.id and c.captured_at = r.captured_at)) as changes'
  const grouped = rows
    .select('r.type_id', 'r.record_key')
    .select(db.raw(`${measure}, count(distinct r.actor_id) as actors, max(r.captured_at) as last_at`))
    .groupBy('r.type_id', 'r.record_key')
    .orderByRaw(order === 'latest' ? 'last_at desc, r.type_id, r.record_key' : 'saves desc, last_at desc, r.record_key')
    .limit(pageSize + 1)
    .offset(page * pageSize)
  const found: {
    type_id: number
    record_key: string
    saves: string
    changes: string
    actors: string
    last_at: string
    label: string | null
    deleted: boolean | null
  }[] = await db
    .from(grouped.as('g'))
    .joinRaw(
      isLimited(reach)
        ? 'left join lateral ? n on true'
        : 'left join spoor.record n on n.type_id = g.type_id and n.record_key = g.record_key',
      isLimited(reach) ? [seenRecord(db, reach, nowMs, 'g') as never] : [],
    )
    .orderByRaw(
      order === 'latest' ? 'g.last_at desc, g.type_id, g.record_key' : 'g.saves desc, g.last_at desc, g.record_key',
    )
    .select('g.*', 'n.label', 'n.deleted')
  return {
    records: found.slice(0, pageSize).map((row) => ({
      typeId: row.type_id,
      key: row.record_key,
      label: row.label ?? row.record_key,
      deleted: row.deleted ?? false,
      saves: Number(row.saves),
      changes: Number(row.changes),
      actors: Number(row.actors),
      lastAt: row.last_at,
    })),
    more: found.length > pageSize,
  }
}
