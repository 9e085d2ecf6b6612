import type { Holding } from '../state/trail.ts'
import type { Life } from './over-time.ts'

/**
 * A spell in which a record held one value. Its beginning is known where a save brought it; its end where a save took it
 * away. Times are epoch milliseconds, microseconds as a fraction.
 */
export interface Stay {
  record: number
  value: string | null
  /** Null where it was there before anything was known of it. */
  fromMs: number | null
  by: string | null
  /** Null where it goes on, or where nothing is known after it. */
  toMs: number | null
  endedBy: string | null
  /** What came after: a value, that the record was gone, or that nothing more is known; undefined while it goes on. */
  next: Holding | undefined
}

/** Epoch milliseconds of an instant, microseconds as a fraction. */
export function exactMs(instant: string): number {
  const [second, fraction = ''] = instant.replace('Z', '').split('.')
  return Date.parse(`${second}Z`) + Number(`0.${fraction || '0'}`) * 1000
}

/** The stays of each record in the values of a field, in order. @param lives of records by their place */
export function* staysOf(lives: readonly Life[]): Generator<Stay> {
  for (const [record, life] of lives.entries())
    for (const [at, { from, to, holding, by }] of life.entries()) {
      if (holding.state !== 'value') continue
      const next = life[at + 1]
      yield {
        record,
        value: holding.value,
        fromMs: by === null || from === null ? null : exactMs(from),
        by,
        toMs: to === null || (next?.by ?? null) === null ? null : exactMs(to),
        endedBy: next?.by ?? null,
        next: next?.holding,
      }
    }
}

/** How long something took, of those of which it is known. */
export interface Durations {
  many: number
  /** Milliseconds: half of them took no longer. Of an even number the mean of the two in the middle. */
  medianMs: number | null
  /** Milliseconds: the shortest that nine in ten did not exceed (nearest rank). */
  p90Ms: number | null
  longestMs: number | null
}

export function durationsOf(ms: readonly number[]): Durations {
  const sorted = Float64Array.from(ms).sort()
  const many = sorted.length
  if (many === 0) return { many, medianMs: null, p90Ms: null, longestMs: null }
  return {
    many,
    medianMs: (sorted[Math.floor((many - 1) / 2)]! + sorted[Math.ceil((many - 1) / 2)]!) / 2,
    p90Ms: sorted[Math.ceil(many * 0.9) - 1]!,
    longestMs: sorted[many - 1]!,
  }
}

/** A step from one value to the next. */
export interface Step {
  from: string | null
  to: string | null
  many: number
  /** How many of them led to a value that the record had held before. */
  back: number
}

/** Which value came after which, and how often it was one that the record had left before. */
export function stepsOf(lives: readonly Life[]): Step[] {
  const steps = new Map<string, Step>()
  for (const life of lives) {
    const held = new Set<string | null>()
    let before: Holding | undefined
    for (const { holding } of life) {
      if (before?.state === 'value' && holding.state === 'value' && before.value !== holding.value) {
        const place = JSON.stringify([before.value, holding.value])
        const step = steps.get(place) ?? { from: before.value, to: holding.value, many: 0, back: 0 }
        step.many++
        if (held.has(holding.value)) step.back++
        steps.set(place, step)
      }
      if (holding.state === 'value') held.add(holding.value)
      // One that comes back under its key begins anew.
      if (holding.state === 'absent') held.clear()
      before = holding
    }
  }
  return [...steps.values()].sort((a, b) => b.many - a.many)
}

/** From when a record came to one value until it first came to another. */
export interface Passage {
  record: number
  fromMs: number
  /** Null while it has not come there; {@link lostMs} says whether it still may. */
  toMs: number | null
  /** The save that brought it there. */
  by: string | null
  /** When the record was gone, or nothing more was known of it, before it came there. */
  lostMs: number | null
}

/**
 * Passages from a value to another, by whatever came between: of a record that comes to the first again before it reached
 * the second, from its first coming. @param from null: from the record's making
 */
export function passagesOf(lives: readonly Life[], from: string | null, to: string): Passage[] {
  const passages: Passage[] = []
  for (const [record, life] of lives.entries()) {
    let begun: number | null = null
    const end = (toMs: number | null, by: string | null, lostMs: number | null) => {
      if (begun !== null) passages.push({ record, fromMs: begun, toMs, by, lostMs })
      begun = null
    }
    for (const [at, { from: instant, holding, by }] of life.entries()) {
      const before = life[at - 1]?.holding
      if (holding.state !== 'value') {
        end(null, null, instant === null ? null : exactMs(instant))
        continue
      }
      if (by === null || instant === null) continue
      const made = before?.state === 'absent'
      if (begun === null && (from === null ? made : holding.value === from)) begun = exactMs(instant)
      if (holding.value === to) end(exactMs(instant), by, null)
    }
    end(null, null, null)
  }
  return passages
}
