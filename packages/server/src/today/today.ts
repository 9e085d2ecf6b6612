import { addDays, scopeEntries, startOfDay, wallClock, type ActorKind, type Scope } from '@spoor/core'
import type { Today } from '@spoor/contract'
import type { Knex } from 'knex'
import { gapsIn } from '../changes/queries/gaps.ts'
import { countsAnswer, fromCounts } from '../changes/queries/rollup.ts'
import { summarise } from '../changes/queries/summary.ts'
import { whereScopes } from '../ledger/scope-sql.ts'
import { boundArray, type Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'
import { storiesOf, storiesShown } from '../noticing/stories.ts'

const dayMs = 86_400_000
const minuteMs = 60_000
/** Somebody's first visit is told of the last days. */
const firstVisitDays = 7
const weeksCompared = 8
const fewestWeeks = 3
/** Of more saves than this the distinct records are not counted. */
const mostForRecords = 50_000
const mostStories = 40
const stripDays = 14
/** Runs of fewer saves are not worth a sentence. */
const leastRun = 30

export interface Asked {
  from: string | undefined
  until: string | undefined
  zone: string
}

/** What happened in a spell within what somebody may see at most, as figures and stories. */
export async function today(db: Database, person: SignedIn, limits: readonly Scope[], asked: Asked): Promise<Today> {
  const nowMs = Date.now()
  const minute = (ms: number) => Math.floor(ms / minuteMs) * minuteMs
  const untilMs = minute(
    asked.until === undefined ? nowMs + minuteMs : Math.min(Date.parse(asked.until), nowMs + minuteMs),
  )
  const wishMs =
    asked.from !== undefined
      ? Date.parse(asked.from)
      : person.lookedAt !== null
        ? Date.parse(person.lookedAt)
        : nowMs - firstVisitDays * dayMs
  const fromMs = Math.min(minute(wishMs), untilMs - minuteMs)
  const text = (ms: number) => `${new Date(ms).toISOString().slice(0, 16)}Z`
  const scope: Scope = {
    when: {
      part: 'when',
      exclude: false,
      effective: false,
      span: { span: 'instants', from: text(fromMs), to: text(untilMs), zone: asked.zone },
    },
  }
  const scopes = [scope, ...limits]
  const [summary, kinds, run, type, usual, strip, gaps, behind] = await Promise.all([
    summarise(db, scopes, nowMs),
    kindsIn(db, scopes, nowMs),
    largestRun(db, scopes, nowMs),
    largestType(db, scopes, nowMs),
    usualFor(db, limits, fromMs, Math.min(untilMs, nowMs), nowMs),
    stripOf(db, limits, asked.zone, nowMs),
    gapsIn(db, scopes, nowMs),
    behindBy(db),
  ])
  const told = person.permissions.includes('noticing.read')
  const stories = told
    ? await storiesShown(
        db,
        await storiesOf(db, { fromAt: text(fromMs), untilAt: text(untilMs), settled: false, limit: mostStories }),
      )
    : null
  return {
    from: text(fromMs),
    until: text(untilMs),
    since: asked.from !== undefined ? 'chosen' : person.lookedAt === null ? 'first visit' : 'last visit',
    scope: new URLSearchParams(scopeEntries(scope)).toString(),
    saves: summary.saves,
    changes: summary.changes,
    records: summary.saves > mostForRecords ? null : await recordsIn(db, scopes, nowMs),
    kinds,
    run,
    type,
    usual,
    stories,
    noticingBehind: told ? behind : 0,
    strip,
    gaps,
  }
}

async function kindsIn(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Today['kinds']> {
  const query = db('ledger.save as s')
    .join('spoor.actor as a', 'a.id', 's.actor_id')
    .groupBy('s.actor_kind')
    .orderByRaw('count(*) desc')
    .select<{ kind: ActorKind; actors: string; saves: string }[]>(
      's.actor_kind as kind',
      db.raw('count(distinct coalesce(a.same_as, a.id)) as actors'),
      db.raw('count(*) as saves'),
    )
  whereScopes(query, scopes, 'save', 's', nowMs)
  const rows = (await query) as { kind: ActorKind; actors: string; saves: string }[]
  return rows.map((row) => ({ kind: row.kind, actors: Number(row.actors), saves: Number(row.saves) }))
}

async function recordsIn(db: Database, scopes: readonly Scope[], nowMs: number): Promise<number> {
  const rows = db('ledger.save as s').distinct('s.type_id', 's.record_key')
  whereScopes(rows, scopes, 'save', 's', nowMs)
  const [row] = await db.from(rows.as('r')).count<{ count: string }[]>('* as count')
  return Number(row?.count ?? 0)
}

async function largestRun(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Today['run']> {
  const query = db('ledger.save as s')
    .whereNotNull('s.run_id')
    .groupBy('s.run_id', 's.type_id')
    .orderByRaw('count(*) desc')
    .first('s.run_id', 's.type_id', db.raw('count(*) as saves'))
  whereScopes(query, scopes, 'save', 's', nowMs)
  const row = (await query) as { run_id: string; type_id: number; saves: string } | undefined
  return row && Number(row.saves) >= leastRun
    ? { id: Number(row.run_id), typeId: row.type_id, saves: Number(row.saves) }
    : null
}

async function largestType(db: Database, scopes: readonly Scope[], nowMs: number): Promise<Today['type']> {
  const query = db('ledger.save as s')
    .groupBy('s.type_id')
    .orderByRaw('count(*) desc')
    .first('s.type_id', db.raw('count(*) as saves'))
  whereScopes(query, scopes, 'save', 's', nowMs)
  const row = (await query) as { type_id: number; saves: string } | undefined
  return row ? { id: row.type_id, saves: Number(row.saves) } : null
}

/** Mean saves of the same spell in the weeks before, by the hourly counts; null where too few weeks are known. */
async function usualFor(
  db: Database,
  limits: readonly Scope[],
  fromMs: number,
  untilMs: number,
  nowMs: number,
): Promise<number | null> {
  // Where the hourly counts cannot tell what somebody may see, they are not told what is usual.
  if (!countsAnswer(limits, nowMs)) return null
  const first = (await db('ledger.hour_kind').min({ first: 'hour' }).first()) as { first: string | null }
  if (first.first === null) return null
  const weekMs = 7 * dayMs
  // A spell of several weeks is compared with those right before it, not with itself.
  const step = Math.max(1, Math.ceil((untilMs - fromMs) / weekMs)) * weekMs
  const hour = (ms: number) => Math.round(ms / 3_600_000) * 3_600_000
  const starts = Array.from({ length: weeksCompared }, (_, n) => hour(fromMs) - (n + 1) * step).filter(
    (ms) => ms >= Date.parse(first.first!),
  )
  if (starts.length < fewestWeeks) return null
  const length = Math.max(3_600_000, hour(untilMs) - hour(fromMs))
  const query = fromCounts(db, limits, nowMs, 'kinds').joinRaw(
    "join unnest(?::timestamptz[]) as w(start) on r.captured_at >= w.start and r.captured_at < w.start + ? * interval '1 millisecond'",
    [boundArray(starts.map((ms) => new Date(ms).toISOString())), length],
  )
  const row = (await query.sum({ saves: 'r.saves' }).first()) as { saves: string | null }
  return Number(row.saves ?? 0) / starts.length
}

/** Saves of the last days by kind of actor, by the reader's days. */
async function stripOf(db: Database, limits: readonly Scope[], zone: string, nowMs: number): Promise<Today['strip']> {
  const last = wallClock(nowMs, zone).date
  const days = Array.from({ length: stripDays }, (_, n) => addDays(last, n - stripDays + 1))
  const counts: Knex.QueryBuilder = countsAnswer(limits, nowMs)
    ? fromCounts(db, limits, nowMs, 'kinds')
    : fromSaves(db, limits, nowMs)
  const query = counts
    .where('r.captured_at', '>=', new Date(startOfDay(days[0]!, zone)).toISOString())
    .groupByRaw('1, 2')
    .select(db.raw('(r.captured_at at time zone ?)::date::text as day', [zone]), 'r.actor_kind as kind')
    .sum({ saves: 'r.saves' })
  const rows = (await query) as { day: string; kind: ActorKind; saves: string }[]
  return days.map((day) => ({
    day,
    saves: Object.fromEntries(rows.filter((row) => row.day === day).map((row) => [row.kind, Number(row.saves)])),
  }))
}

/** Saves themselves in the shape of the counts. */
function fromSaves(db: Database, limits: readonly Scope[], nowMs: number): Knex.QueryBuilder {
  const saves = db('ledger.save as s').select('s.captured_at', 's.actor_kind', db.raw('1 as saves'))
  whereScopes(saves, limits, 'save', 's', nowMs)
  return db.from(saves.as('r'))
}

async function behindBy(db: Database): Promise<number> {
  const { rows } = await db.raw<{ rows: { behind: string }[] }>(
    'select greatest(0, h.last_save_id - n.read_save) as behind from ledger.head h, spoor.noticing n',
  )
  return Number(rows[0]!.behind)
}
