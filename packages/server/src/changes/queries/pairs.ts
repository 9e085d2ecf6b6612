import { instantsOf, withoutPart, type ActorKind, type Scope } from '@spoor/core'
import type { Pairs } from '@spoor/contract'
import type { Database } from '../../database/knex.ts'
import { asksChanges, whereScope } from '../../ledger/scope-sql.ts'
import { fromCounts } from './rollup.ts'

/** With how many spells of equal length before it a spell is compared at most. */
const mostSpells = 12
const mostPairs = 4000

/**
 * Saves by actor and record type, each with what is usual for the two: the average over up to twelve spells of equal
 * length before the scope's own, as far as the ledger reaches. The usual is of the whole trail within the reach, not
 * of the scope's other parts.
 */
export async function readPairs(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Pairs> {
  const byChange = scopes.some(asksChanges)
  const rows = db(byChange ? 'ledger.change as r' : 'ledger.save as r')
  for (const scope of scopes) whereScope(rows, scope, byChange ? 'change' : 'save', 'r', nowMs)
  const found: { actor_id: number; kind: ActorKind; type_id: number; saves: string }[] = await rows
    .join('spoor.actor as a', 'a.id', 'r.actor_id')
    .select(db.raw('coalesce(a.same_as, a.id) as actor_id, r.actor_kind as kind, r.type_id'))
    .select(db.raw(byChange ? 'count(distinct r.save_id) as saves' : 'count(*) as saves'))
    .groupByRaw('1, 2, 3')
    .orderByRaw('4 desc')
    .limit(mostPairs)
  const { usual, spells } = await usualOf(db, scopes, nowMs)
  return {
    spells,
    pairs: found.map((row) => ({
      actorId: row.actor_id,
      kind: row.kind,
      typeId: row.type_id,
      saves: Number(row.saves),
      usual: spells === 0 ? null : (usual.get(`${row.actor_id} ${row.type_id}`) ?? 0),
    })),
  }
}

async function usualOf(
  db: Database,
  scopes: readonly Scope[],
  nowMs: number,
): Promise<{ usual: ReadonlyMap<string, number>; spells: number }> {
  const none = { usual: new Map<string, number>(), spells: 0 }
  const when = scopes[0]?.when
  if (!when || when.exclude || when.effective) return none
  const { fromMs, toMs } = instantsOf(when.span, nowMs)
  const endMs = Math.min(toMs ?? nowMs, nowMs)
  if (fromMs === null || fromMs >= endMs) return none
  const row = (await db('ledger.hour_kind').min({ first: 'hour' }).first()) as { first: string | null }
  if (row.first === null) return none
  const length = endMs - fromMs
  const spells = Math.min(mostSpells, Math.floor((fromMs - Date.parse(row.first)) / length))
  if (spells < 1) return none
  const limits = scopes.slice(1).map((scope) => withoutPart(scope, 'when'))
  // The counts know nothing of fields; whoever may see only some cannot be told what is usual.
  if (limits.some(asksChanges)) return none
  const counted: { actor_id: number; type_id: number; saves: string }[] = await fromCounts(
    db,
    limits,
    nowMs,
    'actors and types',
  )
    .join('spoor.actor as a', 'a.id', 'r.actor_id')
    .where('r.captured_at', '>=', new Date(fromMs - spells * length).toISOString())
    .where('r.captured_at', '<', new Date(fromMs).toISOString())
    .select(db.raw('coalesce(a.same_as, a.id) as actor_id, r.type_id'))
    .sum({ saves: 'r.saves' })
    .groupByRaw('1, 2')
  return {
    usual: new Map(counted.map((one) => [`${one.actor_id} ${one.type_id}`, Number(one.saves) / spells])),
    spells,
  }
}
