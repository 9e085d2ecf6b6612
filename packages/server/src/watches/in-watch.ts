import type { WatchRule } from '@spoor/contract'
import { parseScope, type Scope, type WatchSpell } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { requestedScopes } from '../scope/request.ts'
import { whereScopes } from '../ledger/scope-sql.ts'

/** Parts that say nothing of a save at the moment at which it comes: when it was, and what became of it since. */
const notYet = { when: 'a time', state: 'what became of the changes' } as const

/**
 * The scopes of a watch as its owner may see them.
 * @throws Problem where the scope is not understood, or asks for what a save that just came cannot have
 */
export async function watchedScopes(db: Database, text: string, owner: SignedIn): Promise<Scope[]> {
  const { scope } = parseScope(new URLSearchParams(text))
  for (const [part, words] of Object.entries(notYet))
    if (scope[part as keyof typeof notYet])
      throw new Problem(
        'rule-broken',
        `A watch looks at what comes, so its scope cannot say ${words}. Nothing was kept; leave that part out.`,
      )
  return await requestedScopes(db, text, owner, { waits: true })
}

/** SQL of what saves `s` are counted together in; core's `watchBucket`, in the database. */
function bucketSql(db: Knex, within: WatchSpell, zone: string): Knex.Raw {
  switch (within) {
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
}

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

/** Saves in scope counted by what they belong to, in the order of their first. */
export async function countedTogether(
  db: Database,
  between: SavesBetween,
  { within, zone, more, most }: { within: WatchSpell; zone: string; more: number; most: number },
): Promise<BucketRow[]> {
  const saves = savesBetween(db, between).select('s.id', 's.captured_at', 's.actor_id', {
    bucket: bucketSql(db, within, zone),
  })
  const { rows } = await db.raw<{ rows: BucketRow[] }>(
    `select m.bucket, count(*)::int as saves, min(m.captured_at) as from_at, max(m.captured_at) as to_at,
            (array_agg(m.id::text order by m.id))[1:${savesNamed}] as save_ids, array_agg(distinct m.actor_id) as actor_ids
       from (?) as m group by 1 having count(*) > ? order by min(m.captured_at), 1 limit ?`,
    [saves, more, most],
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
