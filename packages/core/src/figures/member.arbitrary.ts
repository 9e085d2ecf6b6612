import type { ScopedChange } from '../scope/evaluate.ts'
import type { FixedDimension } from './work.ts'

/** For tests: dimensions told by another hand than the database's. */
export const zones = ['Europe/London', 'Asia/Kolkata', 'America/New_York']

/** Zones that are far from UTC on either side. */
export const farZones = ['Pacific/Kiritimati', 'Pacific/Honolulu', 'Pacific/Auckland']

const clocks = new Map(
  [...zones, ...farZones].map((timeZone) => [
    timeZone,
    new Intl.DateTimeFormat('en-CA', {
      timeZone,
      hourCycle: 'h23',
      year: 'numeric',
      month: '2-digit',
      day: '2-digit',
      hour: '2-digit',
      weekday: 'short',
    }),
  ]),
)

/** The member that a change stands at, told by another hand: the browser's own words for a day. */
export function memberOf(dimension: FixedDimension, change: ScopedChange, zone: string): string | null {
  const parts = Object.fromEntries(
    clocks
      .get(zone)!
      .formatToParts(change.atMs)
      .map(({ type, value }) => [type, value]),
  ) as Record<string, string>
  const day = `${parts['year']}-${parts['month']}-${parts['day']}`
  const weekday = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun'].indexOf(parts['weekday']!.slice(0, 3)) + 1
  const month = Number(parts['month'])
  const back = (days: number) => new Date(Date.parse(day) - days * 86_400_000).toISOString().slice(0, 10)
  switch (dimension) {
    case 'who':
      return String(change.actorId)
    case 'kind':
      return change.actorKind
    case 'area':
      return change.typeId % 2 ? 'odd' : 'even'
    case 'type':
      return String(change.typeId)
    case 'field':
      return String(change.fieldId)
    case 'record':
      return `t${change.typeId}:${change.key}`
    case 'before':
      return change.before
    case 'after':
      return change.after
    case 'channel':
      return change.channel
    case 'run':
      // From before runs were kept.
      return change.runId === 0 ? null : String(change.runId)
    case 'reason':
      return change.reason === null ? 'no' : 'yes'
    case 'hour':
      return String(Number(parts['hour']))
    case 'weekday':
      return String(weekday)
    case 'day':
      return day
    case 'week':
      return back(weekday - 1)
    case 'month':
      return `${day.slice(0, 7)}-01`
    case 'quarter':
      return `${day.slice(0, 4)}-${String(month - ((month - 1) % 3)).padStart(2, '0')}-01`
    case 'unit':
      return null
  }
}
