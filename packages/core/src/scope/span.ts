import { addDays, startOfDay, wallClock } from '../time/zone.ts'
import type { Span } from './model.ts'

/** Instants in epoch milliseconds: `fromMs` included, `toMs` not; null is open. */
export interface Instants {
  fromMs: number | null
  toMs: number | null
}

/** `last n days` ends with today in its zone and has n calendar days, today among them. */
export function instantsOf(span: Span, nowMs: number): Instants {
  if (span.span === 'last') {
    const today = wallClock(nowMs, span.zone).date
    return {
      fromMs: startOfDay(addDays(today, 1 - span.days), span.zone),
      toMs: startOfDay(addDays(today, 1), span.zone),
    }
  }
  if (span.span === 'instants') return { fromMs: Date.parse(span.from), toMs: Date.parse(span.to) }
  return {
    fromMs: span.from === null ? null : startOfDay(span.from, span.zone),
    toMs: span.to === null ? null : startOfDay(addDays(span.to, 1), span.zone),
  }
}
