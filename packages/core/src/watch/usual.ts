import { addDays } from '../time/zone.ts'
import { unusual } from '../time/usual.ts'

/** So far back it is looked, at so many of the last days on which there was anything, and fewer than those say nothing. */
export const usualDays = { back: 84, most: 12, fewest: 3 } as const

export interface SavesOfDay {
  /** `YYYY-MM-DD`. */
  day: string
  saves: number
}

/** How many saves are usual for a day: the mean of the last days before it that had any; null where they are too few to say. */
export function usualBefore(day: string, counts: readonly SavesOfDay[]): number | null {
  const first = addDays(day, -usualDays.back)
  const last = counts
    .filter((one) => one.day < day && one.day >= first && one.saves > 0)
    .sort((a, b) => (a.day < b.day ? 1 : -1))
    .slice(0, usualDays.most)
  return last.length < usualDays.fewest ? null : last.reduce((sum, { saves }) => sum + saves, 0) / last.length
}

/** The days that stand out against those before them, in their order. */
export function unusualDays<T extends SavesOfDay>(counts: readonly T[]): T[] {
  return [...counts]
    .sort((a, b) => (a.day < b.day ? -1 : 1))
    .filter((one) => {
      const usual = usualBefore(one.day, counts)
      return usual !== null && unusual(one.saves, usual)
    })
}
