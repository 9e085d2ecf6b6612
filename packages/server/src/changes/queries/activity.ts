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
import type { Database } from '../../database/knex.ts'
import { asksChanges, whereScope } from '../scope-sql.ts'
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
  const counted = await countsOf(db, scopes, size, zone, nowMs)
  const byStart = new Map<number, Activity['buckets'][number]['saves']>()
  for (const { at, kind, saves } of counted) {
    const start = bucketStart(Date.parse(at), size, zone)
    const bucket = byStart.get(start) ?? {}
    bucket[kind] = (bucket[kind] ?? 0) + Number(saves)
    byStart.set(start, bucket)
  }
  const buckets: Activity['buckets'] = []
  for (let start = bucketStart(spell.fromMs, size, zone); start < spell.toMs; start = bucketAfter(start, size, zone)) {
    const to = bucketAfter(start, size, zone)
    buckets.push({ from: iso(start), to: iso(to), saves: byStart.get(start) ?? {} })
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
  const named = when && !when.exclude ? instantsOf(when.span, nowMs) : { fromMs: null, toMs: null }
  const row = (await db('ledger.hour_kind').min({ first: 'hour' }).max({ last: 'hour' }).first()) as { first: string | null; last: string | null } // prettier-ignore
  if (row.first === null || row.last === null) return null
  const [first, last] = [Date.parse(row.first), Date.parse(row.last) + 3_600_000]
  const fromMs = Math.max(named.fromMs ?? first, Math.min(first, nowMs))
  const toMs = Math.min(named.toMs ?? last, Math.max(last, nowMs))
  return fromMs < toMs ? { fromMs, toMs } : null
}

interface Counted {
  at: string
  kind: ActorKind
  saves: string
}

async function countsOf(
  db: Database,
  scopes: readonly Scope[],
  size: BucketSize,
  zone: string,
  nowMs: number,
): Promise<Counted[]> {
  const start = startOf(db, size, zone)
  if (size !== 'minute' && countsAnswer(scopes, nowMs))
    return (await fromCounts(db, scopes, nowMs, 'kinds')
      .select(db.raw(`${start} as at, r.actor_kind as kind`))
      .sum({ saves: 'r.saves' })
      .groupByRaw('1, 2')) as Counted[]
  const byChange = scopes.some(asksChanges)
  const rows = db(byChange ? 'ledger.change as r' : 'ledger.save as r')
  for (const scope of scopes) whereScope(rows, scope, byChange ? 'change' : 'save', 'r', nowMs)
  const count = byChange ? 'count(distinct r.save_id)' : 'count(*)'
  return (await rows
    .select(db.raw(`${start} as at, r.actor_kind as kind, ${count} as saves`))
    .groupByRaw('1, 2')) as Counted[]
}

/** The beginning of the spell a row lies in, as far as the database can tell it; core settles the exact instant. */
function startOf(db: Database, size: BucketSize, zone: string): string {
  if (size === 'minute' || size === 'hour') return `date_trunc('${size}', r.captured_at)`
  return db.raw(`(date_trunc('${size}', r.captured_at at time zone ?) at time zone ?)`, [zone, zone]).toQuery()
}
