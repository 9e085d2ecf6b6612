import Big from 'big.js'
import { grouped } from '../words/list.ts'

/**
 * An exact decimal to read: "−1,234.50", "+3". @param places so many digits after the point at most, rounded half up;
 * what it has of them stays as it is
 */
export function amountText(decimal: string, { signed = false, places = 2 } = {}): string {
  const amount = new Big(decimal)
  const after = decimal.split('.')[1]?.length ?? 0
  const [whole, rest] = (after > places ? amount.round(places) : amount)
    .abs()
    .toFixed(Math.min(after, places))
    .split('.')
  const sign = amount.lt(0) ? '−' : signed && amount.gt(0) ? '+' : ''
  return `${sign}${grouped(BigInt(whole!))}${rest === undefined ? '' : `.${rest}`}`
}

/** A part of a whole in percent, to one digit; null of nothing. */
export function shareOf(part: string, whole: string): number | null {
  const all = new Big(whole)
  return all.eq(0) ? null : Number(new Big(part).times(100).div(all).round(1))
}

const [minute, hour, day] = [60_000, 3_600_000, 86_400_000]

/** "40 s", "12 min", "5 h 10 min", "3 d 4 h", "45 d". */
export function durationText(ms: number): string {
  const two = (unit: number, name: string, smaller: number, smallName: string) => {
    const all = Math.round(ms / smaller)
    const [big, small] = [Math.floor((all * smaller) / unit), all % Math.round(unit / smaller)]
    return small === 0 ? `${big} ${name}` : `${big} ${name} ${small} ${smallName}`
  }
  if (ms < minute) return `${Math.round(ms / 1000)} s`
  if (ms < hour) return `${Math.round(ms / minute)} min`
  if (ms < day) return two(hour, 'h', minute, 'min')
  return ms < 14 * day ? two(day, 'd', hour, 'h') : `${grouped(Math.round(ms / day))} d`
}
