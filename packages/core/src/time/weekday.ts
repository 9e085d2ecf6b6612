import { listed } from '../words/list.ts'

/** Days of the week are numbered as in ISO 8601: 1 is Monday. */
export const weekdayWords = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'] as const

/** 1 for Monday to 7 for Sunday. @param date `YYYY-MM-DD` */
export function weekday(date: string): number {
  return ((new Date(`${date}T00:00:00Z`).getUTCDay() + 6) % 7) + 1
}

/** "Mondays". */
export const weekdayPlural = (day: number): string => `${weekdayWords[day - 1]!}s`

const workingDays = [1, 2, 3, 4, 5]

/** "Mondays to Fridays", "each day", "Mondays and Thursdays". */
export function daysWords(days: readonly number[]): string {
  if (days.length === 7) return 'each day'
  if (days.length === workingDays.length && workingDays.every((day) => days.includes(day))) return 'Mondays to Fridays'
  return listed([...days].sort((a, b) => a - b).map(weekdayPlural))
}
