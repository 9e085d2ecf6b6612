import dayjs from 'dayjs'
import 'dayjs/locale/en-gb'
import timezone from 'dayjs/plugin/timezone'
import utc from 'dayjs/plugin/utc'

dayjs.extend(utc)
dayjs.extend(timezone)

/** The reader's own zone, in which every time on the screen is given. */
export const readerZone = Intl.DateTimeFormat().resolvedOptions().timeZone

export function dayOf(instant: string): string {
  return dayjs(instant).format('YYYY-MM-DD')
}

/** "Fri 20 March 2026". */
export function dayText(instant: string): string {
  return dayjs(instant).format('ddd D MMMM YYYY')
}

/** "20 Mar 2026". */
export function dayOnly(instant: string): string {
  return dayjs(instant).format('D MMM YYYY')
}

/** "16:52". */
export function timeText(instant: string): string {
  return dayjs(instant).format('HH:mm')
}

/** "Fri 20 Mar 2026 16:52:07 GMT". */
export function fullTime(instant: string): string {
  const zone = new Intl.DateTimeFormat('en-GB', { timeZoneName: 'short' })
    .formatToParts(new Date(instant))
    .find((part) => part.type === 'timeZoneName')?.value
  return `${dayjs(instant).format('ddd D MMM YYYY HH:mm:ss')} ${zone ?? readerZone}`
}

/** "20 Mar 16:52", with the year when it is not this one. */
export function shortTime(instant: string): string {
  const at = dayjs(instant)
  return at.format(at.isSame(dayjs(), 'year') ? 'D MMM HH:mm' : 'D MMM YYYY HH:mm')
}

/** "20 Mar 16:52" in a column of its own: the year where it is not this one, in place of the hour's minutes. */
export function dayAndTime(instant: string): string {
  const at = dayjs(instant)
  return at.format(at.isSame(dayjs(), 'year') ? 'D MMM HH:mm' : 'D MMM YY HH:mm')
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
  const first = dayjs(from).format(format)
  const last = dayjs(to).subtract(1, 'ms').format(format)
  return short || first === last ? first : `${first} to ${last}`
}

/** Words of the server with their instants as the reader's time. */
export function withTimes(words: string): string {
  return words.replace(/\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z/g, (instant) => fullTime(instant))
}
