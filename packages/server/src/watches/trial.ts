import type { WatchTrial } from '@spoor/contract'
import { addDays, atWallClock, wallClock, weekday } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'
import { countedTogether, daysWithSaves, watchedScopes, type Rule } from './in-watch.ts'

const yearDays = 365
/** So many of the firings are told one by one. */
const mostTold = 6
const mostCounted = 100_000

/** When a watch would have fired in the year before now. */
export async function tryOnPast(db: Database, rule: Rule, person: SignedIn, nowMs: number): Promise<WatchTrial> {
  const scopes = await watchedScopes(db, rule.scope, person)
  const { fires, zone } = rule
  const firstDay = addDays(wallClock(nowMs, zone).date, -yearDays)
  const from = new Date(atWallClock(firstDay, '00:00', zone)).toISOString()
  const between = { scopes, times: { from, to: new Date(nowMs).toISOString() }, nowMs }
  if (fires.fires === 'missing') {
    const there = await daysWithSaves(db, between, { zone, by: fires.by })
    const firings = []
    for (let day = firstDay; ; day = addDays(day, 1)) {
      const byMs = atWallClock(day, fires.by, zone)
      if (byMs > nowMs) break
      if (fires.days.includes(weekday(day)) && !there.has(day))
        firings.push({ at: new Date(byMs).toISOString(), saves: 0, saveId: null })
    }
    return { from, ...told(firings), by: [] }
  }
  const rows = await countedTogether(db, between, { ...fires, zone, most: mostCounted })
  const byActor = new Map<number, number>()
  for (const { actor_ids } of rows) for (const id of actor_ids) byActor.set(id, (byActor.get(id) ?? 0) + 1)
  const names = await db('spoor.actor as a')
    .leftJoin('spoor.actor as k', 'k.id', 'a.same_as')
    .whereIn('a.id', [...byActor.keys()])
    .select<{ id: number; name: string }[]>('a.id', db.raw('coalesce(k.name, a.name) as name'))
  const times = new Map<string, number>()
  for (const { id, name } of names) times.set(name, (times.get(name) ?? 0) + byActor.get(id)!)
  const mostNamed = 20
  return {
    from,
    ...told(rows.map((row) => ({ at: row.from_at, saves: row.saves, saveId: row.save_ids[0] ?? null }))),
    by: [...times]
      .map(([name, count]) => ({ name, times: count }))
      .sort((a, b) => b.times - a.times || a.name.localeCompare(b.name))
      .slice(0, mostNamed),
  }
}

/** @param firings oldest first */
function told(firings: WatchTrial['last']): Pick<WatchTrial, 'last' | 'times' | 'strip'> {
  const strip = new Map<string, string>()
  for (const { at } of firings) {
    const day = at.slice(0, 10)
    if (!strip.has(day)) strip.set(day, at)
  }
  return { last: firings.slice(-mostTold).reverse(), times: firings.length, strip: [...strip.values()] }
}
