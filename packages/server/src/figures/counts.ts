import { instantsOf, ordered, withoutPart, type Dimension, type Measure, type Scope } from '@spoor/core'
import type { Knex } from 'knex'
import { fromCounts } from '../changes/queries/rollup.ts'
import type { Database } from '../database/knex.ts'
import { whereScope } from '../ledger/scope-sql.ts'

export type TimeDimension = 'hour' | 'weekday' | 'day' | 'week' | 'month' | 'quarter'
export const isOfTime = (one: Dimension): one is TimeDimension => ordered.has(one)

/** SQL of an instant by the clock of a zone, which is bound. */
export function timeSql(dimension: TimeDimension, instant: string): string {
  const clock = `${instant} at time zone ?`
  switch (dimension) {
    case 'hour':
      return `extract(hour from ${clock})::int`
    case 'weekday':
      return `extract(isodow from ${clock})::int`
    default:
      return `date_trunc('${dimension}', ${clock})::date`
  }
}

/** Columns of the counts that dimensions are made from. */
const countColumns: Partial<Record<Dimension, string>> = {
  who: 'actor_id',
  unit: 'actor_id',
  kind: 'actor_kind',
  area: 'type_id',
  type: 'type_id',
  channel: 'channel',
}

/** Whether counts tell a dimension. */
export const isCounted = (one: Dimension): boolean => one in countColumns || isOfTime(one)

/**
 * The counts of all scopes, put together as far as some dimensions need it, under the alias `r`. Months are read as such where
 * nothing asks for less. The clock is looked at once for each hour, not for each of its counts.
 */
export function countsOf(
  db: Database,
  scopes: readonly Scope[],
  wanted: readonly Dimension[],
  { measure, zone, nowMs }: { measure: Measure; zone: string; nowMs: number },
): Knex.QueryBuilder {
  const times = wanted.filter(isOfTime)
  const columns = [...new Set([...wanted.flatMap((one) => countColumns[one] ?? []), ...times])]
  const months = times.every(isOfMonths) ? wholeMonths(scopes, nowMs) : null
  const parts = { db, scopes, columns, times, nowMs }
  const rows = months ? byMonths({ ...parts, months }) : [byHours(parts)]
  const counted = measure === 'changes' ? 'changes' : 'saves'
  const all = db.from(db.raw(`(${rows.map(() => '?').join(' union all ')}) as r`, rows as never[]))
  const counts = all.select(columns.map((name) => `r.${name}`)).sum({ [counted]: `r.${counted}` })
  if (columns.length > 0) void counts.groupBy(columns.map((name) => `r.${name}`))
  // What was put down to the month before by UTC's clock, and was all that there is, leaves nothing behind.
  if (months) void counts.havingRaw('sum(r.saves) > 0')
  if (times.length > 0) void counts.withMaterialized('clock', clock(db, times, zone) as never)
  return db.from(counts.as('r'))
}

const isOfMonths = (one: TimeDimension): one is 'month' | 'quarter' => one === 'month' || one === 'quarter'

/** Of each hour that there are counts of what the clock of a zone shows, and the month and quarter of UTC. */
function clock(db: Database, times: readonly TimeDimension[], zone: string): Knex.Raw {
  return db.raw(
    `select h, ${times.map((one) => `${timeSql(one, 'h')} as ${one}`).join(', ')},
            date_trunc('month', h at time zone 'UTC')::date as utc_month, date_trunc('quarter', h at time zone 'UTC')::date as utc_quarter
       from generate_series((select min(hour) from ledger.hour_actor), (select max(hour) from ledger.hour_actor), interval '1 hour') as h`,
    times.map(() => zone),
  )
}

/** What {@link countsOf} is made of. */
interface Parts {
  db: Database
  scopes: readonly Scope[]
  /** Those of {@link countColumns}, and times. */
  columns: readonly string[]
  times: readonly TimeDimension[]
  nowMs: number
}

/** Months of UTC that lie in a time as a whole: from the first day of one to that of another; null for without end. */
interface Months {
  from: string | null
  to: string | null
}

/** After it a month has more digits than a date is written with. */
const lastMs = Date.UTC(9999, 0)

/** The whole months of UTC in the time that scopes speak of; null where there is none, or less than months is asked for. */
function wholeMonths(scopes: readonly Scope[], nowMs: number): Months | null {
  let [fromMs, toMs] = [-Infinity, Infinity]
  for (const { when, clock: times } of scopes) {
    if (times || when?.exclude) return null
    if (!when) continue
    const span = instantsOf(when.span, nowMs)
    fromMs = Math.max(fromMs, span.fromMs ?? -Infinity)
    toMs = Math.min(toMs, span.toMs ?? Infinity)
  }
  const monthOf = (ms: number, later: number) => {
    const at = new Date(ms)
    return Date.UTC(at.getUTCFullYear(), at.getUTCMonth() + later)
  }
  // A span that is open at an end takes in whatever there is, as does one that ends after every day that can be said.
  if (toMs > lastMs) toMs = Infinity
  if (Number.isFinite(fromMs)) fromMs = monthOf(fromMs, 0) === fromMs ? fromMs : monthOf(fromMs, 1)
  if (Number.isFinite(toMs)) toMs = monthOf(toMs, 0)
  if (fromMs >= toMs || fromMs > lastMs) return null
  const day = (ms: number) => (Number.isFinite(ms) ? new Date(ms).toISOString().slice(0, 10) : null)
  return { from: day(fromMs), to: day(toMs) }
}

/** A month's first instant. */
const instantOf = (day: string) => `${day}T00:00:00Z`

/** The hourly counts that scopes mean. */
function byHours({ db, scopes, columns, times, nowMs }: Parts): Knex.QueryBuilder {
  const query = fromCounts(db, scopes, nowMs, 'actors and types')
  if (times.length > 0) void query.joinRaw('join clock on clock.h = r.captured_at')
  return query.select([...columns.map((name) => columnIn(name, times)), 'r.saves', 'r.changes'])
}

const columnIn = (name: string, times: readonly string[]) => (times.includes(name) ? `clock.${name}` : `r.${name}`)

/**
 * Whole months as they are counted, the hours around them, and of the hours that lie in another month by the clock of the
 * zone than by UTC's what puts them from the one to the other.
 */
function byMonths(parts: Parts & { months: Months }): Knex.QueryBuilder[] {
  const { db, scopes, columns, times, nowMs, months } = parts
  const inside = scopes.map((scope) => withoutPart(scope, 'when'))
  const monthly = db.from(
    db.raw(
      `(select month, date_trunc('quarter', month)::date as quarter, type_id, actor_id, actor_kind, channel, saves, changes from ledger.month_actor) as r`,
    ),
  )
  for (const scope of inside) whereScope(monthly, scope, 'save', 'r', nowMs)
  if (months.from !== null) void monthly.where('r.month', '>=', months.from)
  if (months.to !== null) void monthly.where('r.month', '<', months.to)
  const rows = [monthly.select([...columns.map((name) => `r.${name}`), 'r.saves', 'r.changes'])]
  if (months.from !== null) rows.push(byHours(parts).where('r.captured_at', '<', instantOf(months.from)))
  if (months.to !== null) rows.push(byHours(parts).where('r.captured_at', '>=', instantOf(months.to)))
  if (times.length === 0) return rows
  const moved = fromCounts(db, inside, nowMs, 'actors and types')
    .joinRaw('join clock on clock.h = r.captured_at')
    .joinRaw(
      `cross join lateral (values ${['', 'utc_'].map((own) => `(${[...times.map((one) => `clock.${own}${one}`), own === '' ? 1 : -1].join(', ')})`).join(', ')}) as v(${[...times, 'sign'].join(', ')})`,
    )
    .whereRaw(`(${times.map((one) => `clock.${one} <> clock.utc_${one}`).join(' or ')})`)
  if (months.from !== null) void moved.where('r.captured_at', '>=', instantOf(months.from))
  if (months.to !== null) void moved.where('r.captured_at', '<', instantOf(months.to))
  const named = columns.map((name) => ((times as readonly string[]).includes(name) ? `v.${name}` : `r.${name}`))
  rows.push(moved.select([...named, db.raw('v.sign * r.saves as saves'), db.raw('v.sign * r.changes as changes')]))
  return rows
}
