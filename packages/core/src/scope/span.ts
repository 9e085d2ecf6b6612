import { addDays, startOfDay, wallClock } from '../time/zone.ts'
import type { Span } from './model.ts'

/** Instants in epoch milliseconds: `fromMs` included, `toMs` not; null is open. */
export interface Instants {
  fromMs: number | null
  toMs: number | null
}

/** A `look` that was not settled means nothing; it is asked of no one. `last n days` ends with today in its zone and has n calendar days, today among them. */
export function instantsOf(span: Span, nowMs: number): Instants {
  const known = remembered.get(span)
  if (known?.nowMs === nowMs) return known.instants
  const instants = reckoned(span, nowMs)
  remembered.set(span, { nowMs, instants })
  return instants
}

/** A spell to the minute that has both instants in it. */
export function spanAround(from: string, to: string, zone: string): Extract<Span, { span: 'instants' }> {
  const minute = (ms: number) => `${new Date(ms).toISOString().slice(0, 16)}Z`
  return { span: 'instants', from: minute(Date.parse(from)), to: minute(Date.parse(to) + 60_000), zone }
}

/** A zone's rules are slow to ask, and a scope is held against thousands of changes at one moment. */
const remembered = new WeakMap<Span, { nowMs: number; instants: Instants }>()

function reckoned(span: Span, nowMs: number): Instants {
  if (span.span === 'last') {
    const today = wallClock(nowMs, span.zone).date
    return {
      fromMs: startOfDay(addDays(today, 1 - span.days), span.zone),
      toMs: startOfDay(addDays(today, 1), span.zone),
    }
  }
  if (span.span === 'instants')
    return { fromMs: Date.parse(span.from), toMs: span.to === null ? null : Date.parse(span.to) }
  if (span.span === 'look') throw new Error('“since I last looked” was not settled for its reader')
  return {
    fromMs: span.from === null ? null : startOfDay(span.from, span.zone),
    toMs: span.to === null ? null : startOfDay(addDays(span.to, 1), span.zone),
  }
}

/** The days a span means, both included, for what has only a day; null is open. */
export function daysOf(span: Span, nowMs: number): { from: string | null; to: string | null } {
  const { fromMs, toMs } = instantsOf(span, nowMs)
  const day = (ms: number | null) => (ms === null ? null : wallClock(ms, span.zone).date)
  return { from: day(fromMs), to: day(toMs === null ? null : toMs - 1) }
}
