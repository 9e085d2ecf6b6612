import { addDays, startOfDay, wallClock } from './zone.ts'

export type BucketSize = 'year' | 'month' | 'week' | 'day' | 'hour' | 'minute'

const minuteMs = 60_000
const hourMs = 60 * minuteMs
const dayMs = 24 * hourMs
/** No more spells than the eye tells apart across a page. */
const mostBuckets = 150

/** The finest spells that a length of time fits into without becoming too many. */
export function bucketFor(fromMs: number, toMs: number): BucketSize {
  const length = Math.max(0, toMs - fromMs)
  const sizes: [BucketSize, number][] = [
    ['minute', minuteMs],
    ['hour', hourMs],
    ['day', dayMs],
    ['week', 7 * dayMs],
    ['month', 30 * dayMs],
  ]
  return sizes.find(([, ms]) => length / ms <= mostBuckets)?.[0] ?? 'year'
}

/** The beginning of the spell that an instant lies in, by the wall clock of a zone; weeks begin on Monday. */
export function bucketStart(atMs: number, size: BucketSize, zone: string): number {
  if (size === 'minute') return Math.floor(atMs / minuteMs) * minuteMs
  if (size === 'hour') return Math.floor(atMs / hourMs) * hourMs
  const { date } = wallClock(atMs, zone)
  switch (size) {
    case 'day':
      return startOfDay(date, zone)
    case 'week': {
      const weekday = (new Date(Date.parse(`${date}T00:00:00Z`)).getUTCDay() + 6) % 7
      return startOfDay(addDays(date, -weekday), zone)
    }
    case 'month':
      return startOfDay(`${date.slice(0, 7)}-01`, zone)
    case 'year':
      return startOfDay(`${date.slice(0, 4)}-01-01`, zone)
  }
}

/** The beginning of the spell after the one that begins at `startMs`. */
export function bucketAfter(startMs: number, size: BucketSize, zone: string): number {
  if (size === 'minute') return startMs + minuteMs
  if (size === 'hour') return startMs + hourMs
  const { date } = wallClock(startMs, zone)
  if (size === 'day') return startOfDay(addDays(date, 1), zone)
  if (size === 'week') return startOfDay(addDays(date, 7), zone)
  // A day well inside the next month or year, then back to its first.
  const inside = size === 'month' ? addDays(`${date.slice(0, 7)}-01`, 40) : addDays(`${date.slice(0, 4)}-01-01`, 380)
  return bucketStart(startOfDay(inside, zone), size, zone)
}
