const formats = new Map<string, Intl.DateTimeFormat>()

function formatIn(zone: string): Intl.DateTimeFormat {
  let format = formats.get(zone)
  if (!format) {
    format = new Intl.DateTimeFormat('en-GB', {
      timeZone: zone,
      hourCycle: 'h23',
      year: 'numeric',
      month: '2-digit',
      day: '2-digit',
      hour: '2-digit',
      minute: '2-digit',
      second: '2-digit',
    })
    formats.set(zone, format)
  }
  return format
}

export interface WallClock {
  /** `YYYY-MM-DD`. */
  readonly date: string
  /** `HH:MM:SS`. */
  readonly time: string
}

export function isZone(zone: string): boolean {
  try {
    formatIn(zone)
    return true
  } catch (error) {
    if (error instanceof RangeError) return false
    throw error
  }
}

/** What was shown last, by zone: many are asked for moments of one second, and formatting is slow. */
const shownLast = new Map<string, { second: number; clock: WallClock }>()

/** What the wall clock in `zone` (an IANA name) shows at `epochMs`. */
export function wallClock(epochMs: number, zone: string): WallClock {
  const second = Math.floor(epochMs / 1000)
  const last = shownLast.get(zone)
  if (last?.second === second) return last.clock
  const clock = formatted(epochMs, zone)
  shownLast.set(zone, { second, clock })
  return clock
}

function formatted(epochMs: number, zone: string): WallClock {
  const part: Record<string, string> = {}
  for (const { type, value } of formatIn(zone).formatToParts(epochMs)) part[type] = value
  return {
    date: `${part['year']!.padStart(4, '0')}-${part['month']}-${part['day']}`,
    time: `${part['hour']}:${part['minute']}:${part['second']}`,
  }
}

/** Milliseconds by which `zone` is ahead of UTC at `epochMs`. */
export function offsetMs(epochMs: number, zone: string): number {
  const { date, time } = wallClock(epochMs, zone)
  return Date.parse(`${date}T${time}Z`) - Math.floor(epochMs / 1000) * 1000
}

export function isDate(text: string): boolean {
  if (!/^\d{4}-\d{2}-\d{2}$/.test(text)) return false
  const ms = Date.parse(`${text}T00:00:00Z`)
  return Number.isFinite(ms) && new Date(ms).toISOString().slice(0, 10) === text
}

/**
 * The first instant of a calendar day in a zone, in epoch milliseconds. Where the clock jumps over midnight
 * (some zones change to summer time then) it is the instant of the jump.
 */
export function startOfDay(date: string, zone: string): number {
  const asUtc = Date.parse(`${date}T00:00:00Z`)
  let instant = asUtc - offsetMs(asUtc, zone)
  instant = asUtc - offsetMs(instant, zone)
  if (wallClock(instant, zone).date < date) {
    // Midnight does not exist that day: the offset before the jump gives an instant of the day before.
    instant = asUtc - offsetMs(instant - 12 * 3_600_000, zone)
  } else {
    // Midnight may exist twice (clocks going back at midnight): take the earlier.
    const earlier = asUtc - offsetMs(instant - 3 * 3_600_000, zone)
    if (earlier < instant && wallClock(earlier, zone).date === date) instant = earlier
  }
  return instant
}

/** The calendar day `days` after `date` (negative for before). */
export function addDays(date: string, days: number): string {
  return new Date(Date.parse(`${date}T00:00:00Z`) + days * 86_400_000).toISOString().slice(0, 10)
}

/**
 * An instant (ISO 8601 in UTC, up to microseconds) as the wall clock of a zone shows it, with the offset:
 * `2026-07-20T17:52:07.123456+01:00`.
 */
export function wallClockText(instant: string, zone: string): string {
  const epochMs = Date.parse(instant)
  const offset = lastingOffsetMs(epochMs, zone)
  const clock = new Date(epochMs + offset).toISOString().slice(0, 19)
  const fraction = /\.\d+/.exec(instant)?.[0] ?? ''
  const minutes = Math.round(offset / 60_000)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${clock}${fraction}${minutes < 0 ? '-' : '+'}${two(Math.floor(Math.abs(minutes) / 60))}:${two(Math.abs(minutes) % 60)}`
}

/** Since then the clocks of all zones are set at full quarters of an hour of UTC. */
const quartersSinceMs = Date.UTC(1973, 0, 1)
const quarterMs = 900_000
const mostQuarters = 20_000
const quarters = new Map<string, number>()

/** The same as {@link offsetMs}, reckoned once for each quarter of an hour: a file has many times of few quarters. */
function lastingOffsetMs(epochMs: number, zone: string): number {
  if (epochMs < quartersSinceMs) return offsetMs(epochMs, zone)
  const quarter = Math.floor(epochMs / quarterMs)
  const key = `${zone} ${quarter}`
  const known = quarters.get(key)
  if (known !== undefined) return known
  const offset = offsetMs(quarter * quarterMs, zone)
  if (quarters.size >= mostQuarters) quarters.clear()
  quarters.set(key, offset)
  return offset
}

/** An instant to read, on the clock of a zone: "Thu 2 Apr 2026 14:12:09 BST". */
export function clockWords(instant: string, zone: string): string {
  const at = new Date(instant)
  const parts = new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hourCycle: 'h23',
    timeZoneName: 'short',
  }).formatToParts(at)
  const part = (type: Intl.DateTimeFormatPartTypes) => parts.find((one) => one.type === type)?.value ?? ''
  const month = part('month').slice(0, 3)
  const [day, time] = [
    `${part('weekday')} ${part('day')} ${month}`,
    `${part('hour')}:${part('minute')}:${part('second')}`,
  ]
  return `${day} ${part('year')} ${time} ${part('timeZoneName')}`
}

/**
 * The instant at which the wall clock of a zone first shows a time (`HH:MM`) on a calendar day, in epoch milliseconds; where
 * the clock jumps over it, the instant of the jump.
 */
export function atWallClock(date: string, time: string, zone: string): number {
  const asUtc = Date.parse(`${date}T${time}:00Z`)
  const halfDay = 12 * 3_600_000
  const [before, after] = [offsetMs(asUtc - halfDay, zone), offsetMs(asUtc + halfDay, zone)]
  // The earlier of two instants that show it has the offset from before the clock went back.
  for (const offset of [Math.max(before, after), Math.min(before, after)]) {
    const shown = wallClock(asUtc - offset, zone)
    if (shown.date === date && shown.time === `${time}:00`) return asUtc - offset
  }
  // Nothing shows it: with the offset from before the jump it lies as far after the jump as it should have been reached.
  let [low, high] = [asUtc - after, asUtc - before]
  while (high - low > 1) {
    const middle = Math.floor((low + high) / 2)
    if (offsetMs(middle, zone) === before) low = middle
    else high = middle
  }
  return high
}
