import { onClock } from '../value/time.ts'

/** A stretch of time as it lies on the screen. */
export interface Range {
  fromMs: number
  toMs: number
}

const steps: readonly {
  unit: 'second' | 'minute' | 'hour' | 'day' | 'month' | 'year'
  each: number
  ms: number
  format: string
}[] = [
  { unit: 'second', each: 10, ms: 10_000, format: 'HH:mm:ss' },
  { unit: 'minute', each: 1, ms: 60_000, format: 'HH:mm' },
  { unit: 'minute', each: 15, ms: 900_000, format: 'HH:mm' },
  { unit: 'hour', each: 1, ms: 3_600_000, format: 'HH:mm' },
  { unit: 'hour', each: 6, ms: 21_600_000, format: 'D MMM HH:mm' },
  { unit: 'day', each: 1, ms: 86_400_000, format: 'D MMM' },
  { unit: 'day', each: 7, ms: 604_800_000, format: 'D MMM' },
  { unit: 'month', each: 1, ms: 2_629_800_000, format: 'MMM YYYY' },
  { unit: 'month', each: 3, ms: 7_889_400_000, format: 'MMM YYYY' },
  { unit: 'month', each: 6, ms: 15_778_800_000, format: 'MMM YYYY' },
  { unit: 'year', each: 1, ms: 31_557_600_000, format: 'YYYY' },
  { unit: 'year', each: 5, ms: 157_788_000_000, format: 'YYYY' },
]
const mostTicks = 7

/** Places of a time axis with their names, at round times of the reader's zone; no more than fit. */
export function ticks({ fromMs, toMs }: Range): { ms: number; label: string }[] {
  const step = steps.find(({ ms }) => (toMs - fromMs) / ms <= mostTicks) ?? steps.at(-1)!
  const { unit, each, format } = step
  const floor = onClock(fromMs).startOf(unit)
  // Weeks are counted from the first day shown, all else from where its own count begins.
  const part = unit === 'day' ? 0 : floor.get(unit)
  const result: { ms: number; label: string }[] = []
  for (let at = floor.subtract(part % each, unit); at.valueOf() <= toMs; at = at.add(each, unit))
    if (at.valueOf() >= fromMs) result.push({ ms: at.valueOf(), label: at.format(format) })
  return result
}

/** Where an instant lies, from 0 at the left to 1 at the right; outside of both it is cut. */
export function placeOf(ms: number, { fromMs, toMs }: Range): number {
  return Math.min(1, Math.max(0, (ms - fromMs) / Math.max(1, toMs - fromMs)))
}

const leastMs = 1000

/** The range made longer or shorter around a place in it. @param factor above 1 shows more */
export function zoomed({ fromMs, toMs }: Range, factor: number, place: number, whole: Range): Range {
  const length = Math.min(whole.toMs - whole.fromMs, Math.max(leastMs, (toMs - fromMs) * factor))
  const centre = fromMs + (toMs - fromMs) * place
  const from = Math.min(whole.toMs - length, Math.max(whole.fromMs, centre - length * place))
  return { fromMs: from, toMs: from + length }
}

/** "3 years", "346 days", "2 hours": a length of time in its largest fitting unit. */
export function lengthWords(ms: number): string {
  const units: [number, string][] = [
    [31_557_600_000, 'year'],
    [86_400_000, 'day'],
    [3_600_000, 'hour'],
    [60_000, 'minute'],
    [1000, 'second'],
  ]
  const [size, name] = units.find(([size], at) => ms >= (at === 0 ? 2 * size : size)) ?? [1000, 'second']
  const count = Math.floor(ms / size)
  return `${count} ${name}${count === 1 ? '' : 's'}`
}
