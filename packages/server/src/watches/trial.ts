import type { WatchTrial } from '@spoor/contract'
import {
  addDays,
  atWallClock,
  groupBy,
  isOn,
  unusualDays,
  usualDays,
  wallClock,
  type Scope,
  type WatchFires,
} from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { asOfOneMoment } from '../database/one-moment.ts'
import { Problem } from '../errors.ts'
import { People } from '../people/people.ts'
import type { Answerer } from '../work/answering.ts'
import type { SignedIn } from '../http/bind.ts'
import { sayToday } from './digest.ts'
import { holidaySet } from '../people/holidays.ts'
import {
  countedTogether,
  daysWithSaves,
  pairDays,
  watchedScopes,
  type Counting,
  type Rule,
  type SavesBetween,
} from './in-watch.ts'
import { guardsMet } from './guards-met.ts'
import { alarmsSince, isCounting } from './occasions.ts'
import { sayStoriesById, storiesIn } from './stories.ts'

const yearDays = 365
/** So many of the firings are told one by one. */
const mostTold = 6
const mostCounted = 100_000
const dayMs = 86_400_000

type Would = Omit<WatchTrial, 'from'>

/** A rule tried on the past for whoever waits for it. */
export const watchTrials: Answerer<{ rule: Rule; personId: number }, WatchTrial> = {
  name: 'watch trial',
  words: 'Trying a watch on the past',
  async answer(db, { rule, personId }, pace) {
    const person = await new People(db).find(personId)
    if (!person) throw new Problem('not-allowed', 'Whoever asked may not sign in any more.')
    const tried = { rule, scopes: await watchedScopes(db, rule, person), person }
    // What Today shows is put together from many places, and soon.
    if (rule.fires.fires === 'digest') return await wouldHaveFired(db, tried, Date.now())
    return await asOfOneMoment(db, async (trx) => {
      await pace.hold(trx)
      return await wouldHaveFired(trx, tried, Date.now())
    })
  },
}

/** When a watch would have fired in the year before now; of one that tells what Today shows, what that would be. */
export async function tryOnPast(db: Database, rule: Rule, person: SignedIn, nowMs: number): Promise<WatchTrial> {
  return await wouldHaveFired(db, { rule, scopes: await watchedScopes(db, rule, person), person }, nowMs)
}

async function wouldHaveFired(
  db: Database,
  { rule, scopes, person }: { rule: Rule; scopes: readonly Scope[]; person: SignedIn },
  nowMs: number,
): Promise<WatchTrial> {
  const { fires, zone } = rule
  const firstDay = addDays(wallClock(nowMs, zone).date, -yearDays)
  const from = new Date(atWallClock(firstDay, '00:00', zone)).toISOString()
  const between = { scopes, times: { from, to: new Date(nowMs).toISOString() }, nowMs }
  if (fires.fires === 'unusual') return { from, ...(await stoodOutOfUsual(db, between, { zone, firstDay })) }
  if (isCounting(fires)) return { from, ...(await counting(db, between, fires, zone)) }
  switch (fires.fires) {
    case 'missing':
      return { from, ...told(await missed(db, between, fires, { zone, firstDay })) }
    case 'stands-out':
      return { from, ...(await stoodOut(db, scopes, { from, nowMs })) }
    case 'alarm':
    case 'guard': {
      const there = await (fires.fires === 'alarm' ? alarmsSince : guardsMet)(db, from, mostCounted)
      return { from, ...told(there.map((one) => ({ ...nothing, at: one.from, said: [...one.said] }))) }
    }
    case 'digest': {
      const times = { from: new Date(nowMs - dayMs).toISOString(), until: between.times.to, zone }
      return { from, ...told([]), now: await sayToday(db, person, times) }
    }
  }
}

const nothing = { saves: 0, saveId: null, total: null, said: [] }

async function counting(db: Database, between: SavesBetween, fires: Counting, zone: string): Promise<Would> {
  const rows = await countedTogether(db, between, fires, { zone, enough: true, most: mostCounted })
  return {
    ...told(
      rows.map((row) => ({
        at: row.from_at,
        saves: row.saves,
        saveId: row.save_ids[0] ?? null,
        total: row.total,
        said: [],
      })),
    ),
    by: await namedOften(
      db,
      rows.flatMap((row) => row.actor_ids),
    ),
  }
}

async function missed(
  db: Database,
  between: SavesBetween,
  fires: Extract<WatchFires, { fires: 'missing' }>,
  { zone, firstDay }: { zone: string; firstDay: string },
): Promise<WatchTrial['last']> {
  const there = await daysWithSaves(db, between, { zone, by: fires.by })
  const holidays = await holidaySet(db)
  const firings = []
  for (let day = firstDay; ; day = addDays(day, 1)) {
    const byMs = atWallClock(day, fires.by, zone)
    if (byMs > between.nowMs) return firings
    if (isOn(fires, day, holidays) && !there.has(day)) firings.push({ ...nothing, at: new Date(byMs).toISOString() })
  }
}

/** What stood out of saves of that time and is not settled, as it is told now. */
async function stoodOut(
  db: Database,
  scopes: readonly Scope[],
  { from, nowMs }: { from: string; nowMs: number },
): Promise<Would> {
  const stories = (await storiesIn(db, scopes, { from, nowMs, most: mostCounted })).sort(
    (a, b) => Date.parse(a.to_at) - Date.parse(b.to_at),
  )
  const shown = await sayStoriesById(
    db,
    stories.slice(-mostTold).map(({ id }) => id),
  )
  return {
    ...told(
      stories.map(({ id, saves, to_at, save_ids }) => ({
        at: to_at,
        saves,
        saveId: save_ids[0] ?? null,
        total: null,
        said: [shown.get(id)].filter((one) => one !== undefined),
      })),
    ),
    by: await namedOften(
      db,
      stories.flatMap(({ actors }) => actors),
    ),
  }
}

async function stoodOutOfUsual(
  db: Database,
  between: SavesBetween,
  { zone, firstDay }: { zone: string; firstDay: string },
): Promise<Would> {
  const from = new Date(atWallClock(addDays(firstDay, -usualDays.back), '00:00', zone)).toISOString()
  const days = await pairDays(db, { ...between, times: { ...between.times, from } }, { zone })
  const unusual = [...groupBy(days, ({ actorId, typeId }) => `${actorId} ${typeId}`).values()]
    .flatMap((own) => unusualDays(own))
    .filter(({ day }) => day >= firstDay)
    .sort((a, b) => Date.parse(a.from_at) - Date.parse(b.from_at))
  return {
    ...told(unusual.map(({ from_at, saves, save_id }) => ({ ...nothing, at: from_at, saves, saveId: save_id }))),
    by: await namedOften(
      db,
      unusual.map(({ actorId }) => actorId),
    ),
  }
}

const mostNamed = 20

/** Whoever is among some actors, by the name they are known under, who most often first. */
async function namedOften(db: Database, actorIds: readonly number[]): Promise<WatchTrial['by']> {
  const often = new Map<number, number>()
  for (const id of actorIds) often.set(id, (often.get(id) ?? 0) + 1)
  const names = await db('spoor.actor as a')
    .leftJoin('spoor.actor as k', 'k.id', 'a.same_as')
    .whereIn('a.id', [...often.keys()])
    .select<{ id: number; name: string }[]>('a.id', db.raw('coalesce(k.name, a.name) as name'))
  const times = new Map<string, number>()
  for (const { id, name } of names) times.set(name, (times.get(name) ?? 0) + often.get(id)!)
  return [...times]
    .map(([name, count]) => ({ name, times: count }))
    .sort((a, b) => b.times - a.times || a.name.localeCompare(b.name))
    .slice(0, mostNamed)
}

/** @param firings oldest first */
function told(firings: WatchTrial['last']): Would {
  const strip = new Map<string, string>()
  for (const { at } of firings) {
    const day = at.slice(0, 10)
    if (!strip.has(day)) strip.set(day, at)
  }
  return {
    last: firings.slice(-mostTold).reverse(),
    times: firings.length,
    strip: [...strip.values()],
    by: [],
    now: [],
  }
}
