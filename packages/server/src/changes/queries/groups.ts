import type { Scope } from '@spoor/core'
import type { Group } from '@spoor/contract'
import type { Database } from '../../database/knex.ts'
import { asksChanges, whereScope } from '../../ledger/scope-sql.ts'
import { countsAnswer, fromCounts, wholeHours } from './rollup.ts'

const mostGroups = 60

export interface GroupRequest {
  by: 'day' | 'actor' | 'type'
  zone: string
  /** Only days before this one, for the next page of days. */
  before: string | undefined
}

/** Counts of all scopes by day (newest first), or by actor or record type (most saves first). */
export async function groupChanges(
  db: Database,
  scopes: readonly Scope[],
  { by, zone, before }: GroupRequest,
  nowMs: number,
): Promise<{ groups: Group[]; more: boolean }> {
  const key = {
    day: db.raw('(r.captured_at at time zone ?)::date::text', [zone]),
    actor: db.raw('r.actor_id'),
    type: db.raw('r.type_id'),
  }[by]
  const counts = countsAnswer(scopes, nowMs) && wholeHours(zone, nowMs)
  const byChange = !counts && scopes.some(asksChanges)
  const rows = counts
    ? fromCounts(db, scopes, nowMs, by === 'day' ? 'kinds' : 'actors and types')
    : db(byChange ? 'ledger.change as r' : 'ledger.save as r')
  if (!counts) for (const scope of scopes) whereScope(rows, scope, byChange ? 'change' : 'save', 'r', nowMs)
  const measure = counts
    ? 'sum(r.saves) as saves, sum(r.changes) as changes'
    : byChange
      ? 'count(distinct r.save_id) as saves, count(*) as changes'
      : 'count(*) as saves, sum((select count(*) from ledger.change c where c.save_id = r.id and c.captured_at = r.captured_at)) as changes'
  if (before !== undefined && by === 'day')
    rows.whereRaw('r.captured_at < (?::date::timestamp at time zone ?)', [before, zone])
  const grouped = rows
    .select(db.raw('? as key', [key]))
    .select(db.raw(measure))
    .groupByRaw('1')
  // Somebody who is known under several names is one; their saves are no others', so the sums add up.
  const named =
    by === 'actor'
      ? db
          .from(grouped.as('one'))
          .join('spoor.actor as a', 'a.id', 'one.key')
          .groupByRaw('1')
          .select(db.raw('coalesce(a.same_as, a.id) as key, sum(one.saves) as saves, sum(one.changes) as changes'))
      : grouped
  const found: { key: string; saves: string; changes: string }[] = await db
    .from(named.as('g'))
    .select(db.raw('g.key::text as key'), 'g.saves', 'g.changes')
    .orderByRaw(by === 'day' ? 'g.key desc' : 'g.saves desc, g.key::text')
    .limit(mostGroups + 1)
  const groups = found.slice(0, mostGroups)
  return {
    groups: groups.map((row) => ({ key: row.key, saves: Number(row.saves), changes: Number(row.changes) })),
    more: found.length > mostGroups,
  }
}
