import { instantsOf, type Scope } from '@spoor/core'
import type { Summary } from '@spoor/contract'
import type { Database } from '../../database/knex.ts'
import { isLimited, reachIn } from '../../ledger/reach.ts'
import { whereScope } from '../../ledger/scope-sql.ts'

const mostShown = 20

/**
 * Spells in which a field that was tracked before was not captured, so far as they lie in the time and among the
 * fields that the scopes mean. What is switched off by the plan and never on again is no gap but an end.
 */
export async function gapsIn(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Summary['gaps']> {
  const query = db
    .with('spell', (q) =>
      q
        .from('spoor.coverage as c')
        .join('spoor.field as f', 'f.id', 'c.field_id')
        .select('c.field_id', 'f.type_id', 'c.to_at as from_at', 'c.ended_because')
        .select(db.raw('lead(c.from_at) over (partition by c.field_id order by c.from_at) as until_at')),
    )
    .from('spell as g')
    .whereNotNull('g.from_at')
    .where((q) => q.whereNotNull('g.until_at').orWhere('g.ended_because', 'like', 'capture triggers%'))
    .whereRaw('g.until_at is distinct from g.from_at')
  for (const scope of scopes) narrow(query, scope, nowMs)
  const reach = reachIn(scopes)
  // Of fields in which they see nothing, they are not told that there was nothing to see either.
  if (isLimited(reach))
    query.whereExists((seen) => {
      void seen.from('ledger.change as seen').whereRaw('seen.field_id = g.field_id')
      whereScope(seen, reach, 'change', 'seen', nowMs)
    })
  const rows: {
    type_id: number
    field_id: number
    from_at: string
    until_at: string | null
    ended_because: string | null
  }[] = await query.orderBy('g.from_at', 'desc').limit(mostShown).select('g.*')
  return rows.map((row) => ({
    typeId: row.type_id,
    fieldId: row.field_id,
    from: row.from_at,
    to: row.until_at,
    because: row.ended_because,
  }))
}

function narrow(query: ReturnType<Database['from']>, { what, when, state }: Scope, nowMs: number): void {
  // What stands out is told of some record types in some spell; a gap elsewhere takes nothing from it.
  if (state && !state.exclude && state.states.length === 0 && state.stories.length > 0)
    query.whereExists((story) =>
      story
        .from('spoor.story as s')
        .whereIn('s.id', [...state.stories])
        .whereRaw(
          'g.type_id = any(s.types) and g.from_at <= s.to_at and (g.until_at is null or g.until_at >= s.from_at)',
        ),
    )
  if (what) {
    const named = (q: ReturnType<Database['from']>) =>
      void q.whereIn('g.type_id', [...what.types]).orWhereIn('g.field_id', [...what.fields])
    if (what.exclude) query.whereNot(named)
    else query.where(named)
  }
  // A part that leaves days out leaves all others in: gaps are shown for any of them.
  if (!when || when.exclude || when.effective) return
  const { fromMs, toMs } = instantsOf(when.span, nowMs)
  if (toMs !== null) query.where('g.from_at', '<', new Date(toMs).toISOString())
  if (fromMs !== null)
    query.where((q) => q.whereNull('g.until_at').orWhere('g.until_at', '>', new Date(fromMs).toISOString()))
}
