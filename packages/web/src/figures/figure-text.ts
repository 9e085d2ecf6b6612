import { amountText, grouped, ofDifferences, shareOf, type Measure } from '@spoor/core'
import { fullTime } from '../value/time.ts'

/** A figure of a pivot to read; nothing for none. */
export function figureText(figure: string | null, measure: Measure, total: string | null): string {
  if (figure === null) return ''
  if (measure === 'last') return fullTime(figure)
  if (measure === 'share') {
    const share = shareOf(figure, total ?? '0')
    return share === null ? '' : `${share.toFixed(1)} %`
  }
  if (ofDifferences.has(measure)) return amountText(figure, { signed: measure !== 'gross' })
  return grouped(BigInt(figure))
}
