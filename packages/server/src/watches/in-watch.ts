import type { WatchRule } from '@spoor/contract'
import { hasScope, parseScope, valueKind, type SavesOfDay, type Scope, type WatchFires } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { requestedScopes } from '../scope/request.ts'
import { maskedFields } from '../ledger/masked.ts'
import { whereScopes } from '../ledger/scope-sql.ts'

/** Parts that say nothing of a save at the moment at which it comes: when it was, and what became of it since. */
const notYet = { when: 'a time', state: 'what became of the changes' } as const

/**
 * The scopes of a watch as its owner may see them.
 * @throws Problem where the scope is not understood, or asks for what a save that just came cannot have, or where the differences
 *   of a field are to be added up that has none, or whose values may not be found out
 * @param waits as {@link requestedScopes} does
 */
export async function watchedScopes(
  db: Database,
  { scope: text, fires }: Pick<Rule, 'scope' | 'fires'>,
  owner: SignedIn,
  { waits = true }: { waits?: boolean } = {},
): Promise<Scope[]> {
  const { scope } = parseScope(new URLSearchParams(text))
  if (!hasScope(fires) && text !== '')
    throw new Problem('rule-broken', 'This watch looks at everything, so it has no scope. Nothing was kept.')
  if (fires.fires === 'sum') await demandNumber(db, fires.fieldId)
  for (const [part, words] of Object.entries(notYet))
    if (scope[part as keyof typeof notYet])
      throw new Problem(
        'rule-broken',
        `A watch looks at what comes, so its scope cannot say ${words}. Nothing was kept; leave that part out.`,
      )
  return await requestedScopes(db, text, owner, { waits })
}

async function demandNumber(db: Database, fieldId: number): Promise<void> {
  const field = await db('spoor.field').where({ id: fieldId }).first<{ name: string; base_type: string } | undefined>()
  if (!field || valueKind(field.base_type) !== 'number')
    throw new Problem(
      'rule-broken',
      'Choose a field that holds numbers: only those have differences. Nothing was kept.',
    )
  if ((await maskedFields(db)).has(fieldId))
    throw new Problem(
      'rule-broken',
      `The values of ${field.name} are masked, so what it moved by may not be found out. Nothing was kept.`,
    )
}

/** SQL of who made saves `s`, by the one name they are known under. */
export const knownSql = '(select coalesce(k.same_as, k.id) from spoor.actor k where k.id = s.actor_id)'

/** SQL of what saves `s` are counted together in; core's `watchBucket` and `pairBucket`, in the database. */
function bucketSql(db: Knex, fires: Counting, zone: string): Knex.Raw {
  if (fires.fires === 'unusual')
    return db.raw(
      `'pair:' || ${knownSql} || ':' || s.type_id || ':' || to_char(s.captured_at at time zone ?, 'YYYY-MM-DD')`,
      [zone],
    )
  switch (fires.within) {
    case 'run':
      return db.raw(`coalesce('run:' || s.run_id, 'save:' || s.id)`)
    case 'hour':
      return db.raw(`'hour:' || to_char(s.captured_at at time zone 'UTC', 'YYYY-MM-DD"T"HH24')`)
    case 'day':
      return db.raw(`'day:' || to_char(s.captured_at at time zone ?, 'YYYY-MM-DD')`, [zone])
  }
}

/** Saves in scope, between two numbers or two moments. */
export interface SavesBetween {
  scopes: readonly Scope[]
  /** After this number, up to that one. */
  numbers?: { after: string; upTo: string }
  /** From this moment on, before that one; of numbers, where they lie. */
  times: { from: string; to: string }
  nowMs: number
}

export interface BucketRow {
  bucket: string
  saves: number
  from_at: string
  to_at: string
  /** The first of them by number. */
  save_ids: string[]
  actor_ids: number[]
  /** What the differences come to that were added up, as exact decimal text. */
  total: string | null
}

/** A watch that counts saves, or adds up differences. */
export type Counting = Extract<WatchFires, { fires: 'saves' | 'sum' | 'unusual' }>

/** So many saves of a firing are named. */
export const savesNamed = 200

function savesBetween(db: Database, { scopes, numbers, times, nowMs }: SavesBetween): Knex.QueryBuilder {
  const query = db('ledger.save as s').whereRaw('s.captured_at between ?::timestamptz and ?::timestamptz', [
    times.from,
    times.to,
  ])
  if (numbers) void query.whereRaw('s.id > ?::bigint and s.id <= ?::bigint', [numbers.after, numbers.upTo])
  return whereScopes(query, scopes, 'save', 's', nowMs)
}

/** Which differences are added up, without their sign; core's `moveOf`, in the database. */
const movesOf = { moves: 'one.rise <> 0', rises: 'one.rise > 0', falls: 'one.rise < 0' } as const

/** Saves in scope with the changes of one field that moved it; a save has one at most. */
function movesBetween(
  db: Database,
  { scopes, numbers, times, nowMs }: SavesBetween,
  { fieldId, way }: Extract<WatchFires, { fires: 'sum' }>,
): Knex.QueryBuilder {
  const query = db('ledger.change as one')
    .join('ledger.save as s', (on) => on.on('s.id', 'one.save_id').andOn('s.captured_at', 'one.captured_at'))
    .where('one.field_id', fieldId)
    .whereRaw('one.captured_at between ?::timestamptz and ?::timestamptz', [times.from, times.to])
    .whereRaw(movesOf[way])
  if (numbers)
    void query.whereRaw('one.save_id > ?::bigint and one.save_id <= ?::bigint', [numbers.after, numbers.upTo])
  return whereScopes(query, scopes, 'change', 'one', nowMs)
}

/**
 * Saves in scope counted by what they belong to, in the order of their first.
 * @param enough whether only those are wanted of which there are enough
 */
export async function countedTogether(
  db: Database,
  between: SavesBetween,
  fires: Counting,
  { zone, enough, most }: { zone: string; enough: boolean; most: number },
): Promise<BucketRow[]> {
  const sum = fires.fires === 'sum'
  const saves = (sum ? movesBetween(db, between, fires) : savesBetween(db, between)).select(
    's.id',
    's.captured_at',
    's.actor_id',
    { bucket: bucketSql(db, fires, zone) },
    db.raw(sum ? 'abs(one.rise) as move' : 'null::numeric as move'),
  )
  const { rows } = await db.raw<{ rows: BucketRow[] }>(
    `select m.bucket, count(*)::int as saves, min(m.captured_at) as from_at, max(m.captured_at) as to_at,
            (array_agg(m.id::text order by m.id))[1:${savesNamed}] as save_ids, array_agg(distinct m.actor_id) as actor_ids,
            sum(m.move)::text as total
       from (?) as m group by 1 having ${sum ? 'sum(m.move)' : 'count(*)'} > ?::numeric order by min(m.captured_at), 1 limit ?`,
    [saves, enough && fires.fires !== 'unusual' ? (fires.fires === 'sum' ? fires.over : fires.more) : -1, most],
  )
  return rows
}

/** Saves in scope by who, record type and day, as far back as what is usual goes. */
export interface PairDay extends SavesOfDay {
  actorId: number
  typeId: number
  from_at: string
  save_id: string
}

/** @param actorIds by the names they are known under; all where not said */
export async function pairDays(
  db: Database,
  between: SavesBetween,
  { zone, actorIds }: { zone: string; actorIds?: readonly number[] },
): Promise<PairDay[]> {
  const saves = savesBetween(db, between).select(
    's.id',
    's.captured_at',
    's.type_id',
    db.raw(`${knownSql} as known_id`),
    db.raw(`to_char(s.captured_at at time zone ?, 'YYYY-MM-DD') as day`, [zone]),
  )
  if (actorIds) void saves.whereRaw(`${knownSql} = any(?::int[])`, [boundArray(actorIds)])
  const { rows } = await db.raw<{ rows: PairDay[] }>(
    `select m.known_id as "actorId", m.type_id as "typeId", m.day, count(*)::int as saves, min(m.captured_at) as from_at,
            min(m.id)::text as save_id
       from (?) as m group by 1, 2, 3`,
    [saves],
  )
  return rows
}

/** Days of a zone on which a save in scope came before a time of the day. */
export async function daysWithSaves(
  db: Database,
  between: SavesBetween,
  { zone, by }: { zone: string; by: string },
): Promise<Set<string>> {
  const days = (await savesBetween(db, between)
    .whereRaw(`to_char(s.captured_at at time zone ?, 'HH24:MI') < ?`, [zone, by])
    .distinct(db.raw(`to_char(s.captured_at at time zone ?, 'YYYY-MM-DD') as day`, [zone]))) as { day: string }[]
  return new Set(days.map(({ day }) => day))
}

export type Rule = Pick<WatchRule, 'scope' | 'fires' | 'zone'>
