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

/** "40 s", "12 min", "5 h 10 min", "3 d 4 h", "45 d": what is less than its last unit is rounded. */
export function durationText(ms: number): string {
  const [seconds, minutes, hours, days] = [1000, 60_000, 3_600_000, 86_400_000].map((unit) =>
    Math.round(ms / unit),
  ) as [number, number, number, number]
  const two = (all: number, many: number, big: string, small: string) =>
    all % many === 0 ? `${all / many} ${big}` : `${Math.floor(all / many)} ${big} ${all % many} ${small}`
  if (seconds < 60) return `${seconds} s`
  if (minutes < 60) return `${minutes} min`
  if (minutes < 24 * 60) return two(minutes, 60, 'h', 'min')
  return hours < 14 * 24 ? two(hours, 24, 'd', 'h') : `${grouped(days)} d`
}
