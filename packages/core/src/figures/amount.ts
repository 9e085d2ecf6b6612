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
