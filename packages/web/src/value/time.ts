import dayjs, { type Dayjs } from 'dayjs'
import 'dayjs/locale/en-gb'
import timezone from 'dayjs/plugin/timezone'
import utc from 'dayjs/plugin/utc'

dayjs.extend(utc)
dayjs.extend(timezone)

export const browserZone = Intl.DateTimeFormat().resolvedOptions().timeZone

/** The zone in which every time on the screen is given: what the reader chose, or that of their browser. */
export let readerZone = browserZone

/** Zones to choose from, those most likely first. */
export const zoneChoices = [...new Set([browserZone, 'UTC', ...Intl.supportedValuesOf('timeZone')])].map((value) => ({
  value,
  label: value,
}))

/** To be called before anything is shown; another choice is for a page that is loaded anew. */
export function tellTimesIn(zone: string | null): void {
  readerZone = zone ?? browserZone
}

/** An instant on the reader's clock. */
export function onClock(instant: string | number | Date): Dayjs {
  const at = dayjs(instant)
  return readerZone === browserZone ? at : at.tz(readerZone)
}

/** For a calendar to pick from, which knows the browser's zone alone: the same hour and day as on the reader's clock. */
export function toCalendar(ms: number): Dayjs {
  return dayjs(onClock(ms).format('YYYY-MM-DDTHH:mm:ss.SSS'))
}
export function fromCalendar(picked: Dayjs): number {
  return dayjs.tz(picked.format('YYYY-MM-DDTHH:mm:ss.SSS'), readerZone).valueOf()
}

export function dayOf(instant: string): string {
  return onClock(instant).format('YYYY-MM-DD')
}

/** "Fri 20 March 2026". */
export function dayText(instant: string): string {
  return onClock(instant).format('ddd D MMMM YYYY')
}

/** "20 Mar 2026". */
export function dayOnly(instant: string): string {
  return onClock(instant).format('D MMM YYYY')
}

/** "16:52". */
export function timeText(instant: string): string {
  return onClock(instant).format('HH:mm')
}

/** "Fri 20 Mar 2026 16:52:07 GMT". */
export function fullTime(instant: string): string {
  const zone = new Intl.DateTimeFormat('en-GB', { timeZone: readerZone, timeZoneName: 'short' })
    .formatToParts(new Date(instant))
    .find((part) => part.type === 'timeZoneName')?.value
  return `${onClock(instant).format('ddd D MMM YYYY HH:mm:ss')} ${zone ?? readerZone}`
}

/** "20 Mar 16:52", with the year when it is not this one. */
export function shortTime(instant: string): string {
  const at = onClock(instant)
  return at.format(at.year() === onClock(Date.now()).year() ? 'D MMM HH:mm' : 'D MMM YYYY HH:mm')
}

/** "20 Mar 16:52" in a column of its own: the year where it is not this one, in place of the hour's minutes. */
export function dayAndTime(instant: string): string {
  const at = onClock(instant)
  return at.format(at.year() === onClock(Date.now()).year() ? 'D MMM HH:mm' : 'D MMM YY HH:mm')
}

/** A spell of time in words fit for its size: "March 2026", "week of 2 Mar", "20 Mar", "20 Mar 16:00". */
export function bucketWords(from: string, to: string, size: string, short = false): string {
  const format =
    {
      year: 'YYYY',
      month: short ? 'MMM YYYY' : 'MMMM YYYY',
      week: short ? 'D MMM YY' : '[week of] D MMM YYYY',
      day: short ? 'D MMM' : 'ddd D MMM YYYY',
      hour: 'D MMM HH:mm',
      minute: 'HH:mm',
    }[size] ?? 'D MMM YYYY'
  const first = onClock(from).format(format)
  const last = onClock(to).subtract(1, 'ms').format(format)
  return short || first === last ? first : `${first} to ${last}`
}

/** Words of the server with their instants as the reader's time. */
export function withTimes(words: string): string {
  return words.replace(/\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z/g, (instant) => fullTime(instant))
}
