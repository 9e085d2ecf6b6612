import { alarmNames, type AlarmCode, type Saying } from '@spoor/contract'
import { atWallClock, lastTurn, type Scope, type WatchFires } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'
import { sayToday } from './digest.ts'
import { guardsMet } from './guards-met.ts'
import { holidaySet } from '../people/holidays.ts'
import { daysWithSaves, type Counting } from './in-watch.ts'
import { unlessKnown } from './known.ts'
import type { WatchRow } from './store.ts'
import { sayStoriesById, storiesIn } from './stories.ts'
import { digestMark } from './words.ts'

/** A watch that does not count saves as they come. */
export type Occasional = Exclude<WatchFires, Counting>

export const isCounting = (fires: WatchFires): fires is Counting =>
  fires.fires === 'saves' || fires.fires === 'sum' || fires.fires === 'unusual'

/** Something that a watch looked at, which is looked at once. */
export interface Occasion {
  bucket: string
  /** Whether it is told of; where not, it is known to be nothing. */
  fires: boolean
  from: string
  to: string
  saves: number
  saveIds: readonly string[]
  said: readonly Saying[]
}

export interface Looked {
  watch: Pick<WatchRow, 'id' | 'since' | 'zone'>
  scopes: readonly Scope[]
  owner: SignedIn
  nowMs: number
}

const day = 86_400_000
/** What came in time is collected by then. */
const collectedWithinMs = 2 * 60_000
/** What lies longer ago than this is history, also where it is found now only. */
const newsForMs = 7 * day
const mostAtOnce = 200

/** What a watch finds that it has not looked at before. */
export async function occasionsOf(db: Database, fires: Occasional, looked: Looked): Promise<Occasion[]> {
  switch (fires.fires) {
    case 'missing':
      return await missing(db, fires, looked)
    case 'stands-out':
      return await standingOut(db, looked)
    case 'alarm':
      return await alarmsSince(db, looked.watch.since, mostAtOnce, looked.watch.id)
    case 'guard':
      return await guardsMet(db, looked.watch.since, mostAtOnce, looked.watch.id)
    case 'digest':
      return await digest(db, fires, looked)
  }
}

const isKnown = async (db: Database, watchId: number, bucket: string): Promise<boolean> =>
  (await db('spoor.watch_firing').where({ watch_id: watchId, bucket }).first('id')) !== undefined

/** The last of its turns, where it came since the watch looks and was not looked at. */
async function turnOf(
  db: Database,
  fires: Extract<WatchFires, { fires: 'missing' | 'digest' }>,
  { time, afterMs }: { time: string; afterMs: number },
  { watch, nowMs }: Looked,
): Promise<{ bucket: string; day: string; atMs: number } | null> {
  const turn = lastTurn(fires, time, watch.zone, { nowMs: nowMs - afterMs, holidays: await holidaySet(db) })
  // What was over when the watch was made is not missing, nor is it told.
  if (!turn || turn.atMs < Date.parse(watch.since)) return null
  const bucket = `${fires.fires}:${turn.day}`
  return (await isKnown(db, watch.id, bucket)) ? null : { bucket, ...turn }
}

/** Each day once, as soon as its time is over: whether something came before it. */
async function missing(
  db: Database,
  fires: Extract<WatchFires, { fires: 'missing' }>,
  looked: Looked,
): Promise<Occasion[]> {
  const { watch, scopes, nowMs } = looked
  const turn = await turnOf(db, fires, { time: fires.by, afterMs: collectedWithinMs }, looked)
  if (!turn) return []
  const from = new Date(atWallClock(turn.day, '00:00', watch.zone)).toISOString()
  const to = new Date(turn.atMs).toISOString()
  const came = await daysWithSaves(db, { scopes, times: { from, to }, nowMs }, { zone: watch.zone, by: fires.by })
  return [{ bucket: turn.bucket, fires: !came.has(turn.day), from, to, saves: 0, saveIds: [], said: [] }]
}

/** Each story once, when it is first told; how it grows afterwards is not news. */
async function standingOut(db: Database, { watch, scopes, nowMs }: Looked): Promise<Occasion[]> {
  const stories = await storiesIn(db, scopes, {
    from: new Date(Math.max(Date.parse(watch.since), nowMs - newsForMs)).toISOString(),
    foundFrom: watch.since,
    notBy: watch.id,
    nowMs,
    most: mostAtOnce,
  })
  const said = await sayStoriesById(
    db,
    stories.map(({ id }) => id),
  )
  return stories.flatMap(({ id, story, saves, from_at, to_at, save_ids }) => {
    const one = said.get(id)
    return one
      ? [
          {
            bucket: `story:${story}`,
            fires: true,
            from: from_at,
            to: to_at,
            saves,
            saveIds: save_ids,
            said: [one],
          },
        ]
      : []
  })
}

/** Alarms raised from a moment on, oldest first. @param notBy a watch that did not tell of them */
export async function alarmsSince(
  db: Database,
  since: string,
  most: number,
  notBy: number | null = null,
): Promise<Occasion[]> {
  const query = db('spoor.alarm as a')
    .leftJoin('spoor.source as o', 'o.id', 'a.source_id')
    .where('a.raised_at', '>=', since)
    .orderBy('a.id')
    .limit(most)
  if (notBy !== null) unlessKnown(query, notBy, "'alarm:' || a.id")
  const rows = await query.select<{ id: string; code: AlarmCode; source: string | null; raised_at: string }[]>(
    'a.id',
    'a.code',
    'o.name as source',
    'a.raised_at',
  )
  return rows.map(({ id, code, source, raised_at }) => ({
    bucket: `alarm:${id}`,
    fires: true,
    from: raised_at,
    to: raised_at,
    saves: 0,
    saveIds: [],
    said: [{ words: `alarm${source === null ? '' : ` at ${source}`}: ${alarmNames[code]}`, path: '/today#alarms' }],
  }))
}

/** What Today shows of the time since it was told the last time. */
async function digest(
  db: Database,
  fires: Extract<WatchFires, { fires: 'digest' }>,
  looked: Looked,
): Promise<Occasion[]> {
  const { watch, owner } = looked
  const turn = await turnOf(db, fires, { time: fires.at, afterMs: 0 }, looked)
  if (!turn) return []
  const last = await db('spoor.watch_firing')
    .where({ watch_id: watch.id })
    .where('bucket', 'like', `${digestMark}%`)
    .max<{ to: string | null }[]>({ to: 'to_at' })
    .first()
  const to = new Date(turn.atMs).toISOString()
  const from = last?.to ?? new Date(turn.atMs - day).toISOString()
  const said = await sayToday(db, owner, { from, until: to, zone: watch.zone })
  return [{ bucket: turn.bucket, fires: true, from, to, saves: 0, saveIds: [], said }]
}
