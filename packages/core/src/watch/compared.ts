import { wallClock } from '../time/zone.ts'

/** Days on which one of two rules would have fired alone. */
export interface ComparedDays {
  gone: string[]
  new: string[]
}

/**
 * What a changed rule would do that it did not before.
 * @param before instants at which it would have fired as it stands; of each day one is enough @param after the same, as changed
 * @returns days of the zone, oldest first
 */
export function comparedDays(before: readonly string[], after: readonly string[], zone: string): ComparedDays {
  const daysOf = (instants: readonly string[]) =>
    new Set([...instants].sort().map((at) => wallClock(Date.parse(at), zone).date))
  const [was, is] = [daysOf(before), daysOf(after)]
  return {
    gone: [...was].filter((day) => !is.has(day)),
    new: [...is].filter((day) => !was.has(day)),
  }
}
