import {
  bucketAfter,
  bucketFor,
  bucketStart,
  instantsOf,
  type ActorKind,
  type BucketSize,
  type Scope,
} from '@spoor/core'
import type { Activity } from '@spoor/contract'
import { boundArray, type Database } from '../../database/knex.ts'
import { asksChanges, whereScope } from '../../ledger/scope-sql.ts'
import { countsAnswer, fromCounts } from './rollup.ts'

/** Saves of all scopes over time, by kind of actor, in spells fit for their length and for the reader's zone. */
export async function readActivity(
  db: Database,
  scopes: readonly Scope[],
  zone: string,
  nowMs: number,
): Promise<Activity> {
  const spell = await spellOf(db, scopes, nowMs)
  if (!spell) return { bucket: 'day', buckets: [], from: null, to: null }
  const size = bucketFor(spell.fromMs, spell.toMs)
  const starts: number[] = []
  for (let start = bucketStart(spell.fromMs, size, zone); start < spell.toMs; start = bucketAfter(start, size, zone))
    starts.push(start)
  const buckets: Activity['buckets'] = starts.map((start) => ({
    from: iso(start),
    to: iso(bucketAfter(start, size, zone)),
    saves: {},
  }))
  for (const { place, kind, saves } of await countsOf(db, scopes, starts, size, nowMs)) {
    // Place 0 is before the first; after the last there is nothing that the scope means.
    const bucket = buckets[place - 1]
    if (bucket) bucket.saves[kind] = Number(saves)
  }
  return { bucket: size, buckets, from: iso(spell.fromMs), to: iso(spell.toMs) }
}

const iso = (ms: number) => new Date(ms).toISOString()

/** The time that a scope speaks of; where it leaves an end open, the ledger's own. */
async function spellOf(
  db: Database,
  scopes: readonly Scope[],
  nowMs: number,
): Promise<{ fromMs: number; toMs: number } | null> {
  const when = scopes[0]?.when
  const named = when && !when.exclude && !when.effective ? instantsOf(when.span, nowMs) : { fromMs: null, toMs: null }
  const row = (await db('ledger.hour_kind').min({ first: 'hour' }).max({ last: 'hour' }).first()) as {
    first: string | null
    last: string | null
  }
  if (row.first === null || row.last === null) return null
  const [first, last] = [Date.parse(row.first), Date.parse(row.last) + 3_600_000]
  const fromMs = Math.max(named.fromMs ?? first, Math.min(first, nowMs))
  const toMs = Math.min(named.toMs ?? last, Math.max(last, nowMs))
  return fromMs < toMs ? { fromMs, toMs } : null
}

interface Counted {
  place: number
  kind: ActorKind
  saves: string
}

/** Counts by the place among `starts` and kind; the database sorts rows into the spells that core has cut. */
async function countsOf(
  db: Database,
  scopes: readonly Scope[],
  starts: readonly number[],
  size: BucketSize,
  nowMs: number,
): Promise<Counted[]> {
  const place = db.raw('width_bucket(r.captured_at, ?::timestamptz[]) as place', [boundArray(starts.map(iso))])
  if (size !== 'minute' && countsAnswer(scopes, nowMs))
    return (await fromCounts(db, scopes, nowMs, 'kinds')
      .select(place, 'r.actor_kind as kind')
      .sum({ saves: 'r.saves' })
      .groupByRaw('1, 2')) as Counted[]
  const byChange = scopes.some(asksChanges)
  const rows = db(byChange ? 'ledger.change as r' : 'ledger.save as r')
  for (const scope of scopes) whereScope(rows, scope, byChange ? 'change' : 'save', 'r', nowMs)
  const count = byChange ? 'count(distinct r.save_id)' : 'count(*)'
  return (await rows.select(place, 'r.actor_kind as kind', db.raw(`${count} as saves`)).groupByRaw('1, 2')) as Counted[]
}
