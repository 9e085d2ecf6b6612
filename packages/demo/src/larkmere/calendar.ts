import { addDays, startOfDay } from '@spoor/core'

export const larkmereZone = 'Europe/London'

/** Monday is 1, Sunday 7. */
export function weekday(date: string): number {
  return ((new Date(`${date}T12:00:00Z`).getUTCDay() + 6) % 7) + 1
}

/** An instant by Larkmere's clock, in epoch milliseconds. `hour` may have a fraction. */
export function at(date: string, hour: number): number {
  return startOfDay(date, larkmereZone) + Math.round(hour * 3_600_000)
}

/** The date of Easter Sunday (the anonymous Gregorian computus). */
function easter(year: number): string {
  const a = year % 19
  const b = Math.floor(year / 100)
  const c = year % 100
  const h = (19 * a + b - Math.floor(b / 4) - Math.floor((b - Math.floor((b + 8) / 25) + 1) / 3) + 15) % 30
  const l = (32 + 2 * (b % 4) + 2 * Math.floor(c / 4) - h - (c % 4)) % 7
  const m = Math.floor((a + 11 * h + 22 * l) / 451)
  const n = h + l - 7 * m + 114
  return `${year}-${String(Math.floor(n / 31)).padStart(2, '0')}-${String((n % 31) + 1).padStart(2, '0')}`
}

const holidays = new Map<number, ReadonlySet<string>>()

function holidaysOf(year: number): ReadonlySet<string> {
  const known = holidays.get(year)
  if (known) return known
  const sunday = easter(year)
  const days = new Set([
    `${year}-01-01`,
    addDays(sunday, -2),
    addDays(sunday, 1),
    onOrAfter(`${year}-05-01`, 1),
    onOrBefore(`${year}-08-31`, 1),
  ])
  // The office is shut from Christmas Eve to the second of January.
  for (const day of ['12-24', '12-25', '12-26', '12-27', '12-28', '12-29', '12-30', '12-31']) days.add(`${year}-${day}`)
  days.add(`${year}-01-02`)
  holidays.set(year, days)
  return days
}

/** The first day from `date` on that falls on the weekday. */
export function onOrAfter(date: string, day: number): string {
  return addDays(date, (day - weekday(date) + 7) % 7)
}

/** The last day up to `date` that falls on the weekday. */
export function onOrBefore(date: string, day: number): string {
  return addDays(date, -((weekday(date) - day + 7) % 7))
}

export function isWorkday(date: string): boolean {
  return weekday(date) <= 5 && !holidaysOf(Number(date.slice(0, 4))).has(date)
}

/** The first working day from `date` on. */
export function workdayFrom(date: string): string {
  let day = date
  while (!isWorkday(day)) day = addDays(day, 1)
  return day
}

/** The last working day up to `date`. */
export function workdayUpTo(date: string): string {
  let day = date
  while (!isWorkday(day)) day = addDays(day, -1)
  return day
}

export function daysBetween(from: string, to: string): number {
  return Math.round((Date.parse(`${to}T00:00:00Z`) - Date.parse(`${from}T00:00:00Z`)) / 86_400_000)
}
