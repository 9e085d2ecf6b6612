import { withPart, type Scope, type ValueTest } from '../scope/model.ts'
import { wallClock } from '../time/zone.ts'
import type { Holding } from '../state/trail.ts'
import { spellAt, type Life } from './over-time.ts'
import type { LifeSave } from './parts.ts'
import type { StaysWork } from './work.ts'

/**
 * A spell in which a record held one value, or its way from one value to another. Its beginning is known where a save
 * brought it; its end where a save ended it. Times are epoch milliseconds, microseconds as a fraction.
 */
export interface Stay {
  record: number
  /** Of a passage that to which it leads. */
  value: string | null
  /** Null where it began before anything was known of it. */
  fromMs: number | null
  /** Null where it goes on, or where nothing tells how it ended. */
  toMs: number | null
  endedBy: LifeSave | null
  goesOn: boolean
  /** Whether nothing is known of how it ended; of a passage, whether the record was gone before it came there. */
  lost: boolean
}

const exactMs = (micros: number) => micros / 1000

/** What a work asks for: stays in the values of a field, or passages between two of them. @param lives by record */
export function staysFor(lives: readonly Life[], { from, to }: Pick<StaysWork, 'from' | 'to'>): Stay[] {
  if (to !== null) return passagesOf(lives, from, to)
  return from === null ? staysOf(lives) : staysOf(lives).filter(({ value }) => value === from)
}

/** The stays of each record in the values of a field, in order. */
function staysOf(lives: readonly Life[]): Stay[] {
  const stays: Stay[] = []
  for (const [record, life] of lives.entries())
    for (const [at, { from, to, holding, save }] of life.entries()) {
      if (holding.state !== 'value') continue
      const next = life[at + 1]
      const endedBy = next?.save ?? null
      stays.push({
        record,
        value: holding.value,
        fromMs: save === null || from === null ? null : exactMs(from),
        toMs: to === null || endedBy === null ? null : exactMs(to),
        endedBy,
        goesOn: !next,
        lost: next !== undefined && endedBy === null,
      })
    }
  return stays
}

/**
 * Passages from a value to another, by whatever came between: of a record that comes to the first again before it reached
 * the second, from its first coming. @param from null: from the record's making
 */
function passagesOf(lives: readonly Life[], from: string | null, to: string): Stay[] {
  const passages: Stay[] = []
  for (const [record, life] of lives.entries()) {
    let begun: number | null = null
    const end = (how: Pick<Stay, 'toMs' | 'endedBy' | 'goesOn' | 'lost'>) => {
      if (begun !== null) passages.push({ record, value: to, fromMs: begun, ...how })
      begun = null
    }
    const open = { toMs: null, endedBy: null }
    for (const [at, { from: instant, holding, save }] of life.entries()) {
      if (holding.state !== 'value') end({ ...open, goesOn: false, lost: true })
      if (holding.state !== 'value' || save === null || instant === null) continue
      const made = life[at - 1]?.holding.state === 'absent'
      if (begun === null && (from === null ? made : holding.value === from)) begun = exactMs(instant)
      if (holding.value === to) end({ toMs: exactMs(instant), endedBy: save, goesOn: false, lost: false })
    }
    end({ ...open, goesOn: true, lost: false })
  }
  return passages
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

/** Of those of which beginning and end are known. */
export function durationsOf(stays: readonly Pick<Stay, 'fromMs' | 'toMs'>[]): Durations {
  const took = new Float64Array(stays.length)
  let many = 0
  for (const { fromMs, toMs } of stays) if (fromMs !== null && toMs !== null) took[many++] = toMs - fromMs
  const sorted = took.subarray(0, many).sort()
  if (many === 0) return { many, medianMs: null, p90Ms: null, longestMs: null }
  return {
    many,
    medianMs: (sorted[Math.floor((many - 1) / 2)]! + sorted[Math.ceil((many - 1) / 2)]!) / 2,
    p90Ms: sorted[Math.ceil(many * 0.9) - 1]!,
    longestMs: sorted[many - 1]!,
  }
}

/**
 * A group of stays: `value` what it is of (a value, the number of an actor, a kind, the first day of a month), null for
 * nothing; undefined where it is not known.
 */
export interface StayGroup {
  value?: string | null | undefined
}

/**
 * To which group a stay belongs.
 * @param other of another field of the record, by what the stays are held apart
 * @param zone of months
 */
export function groupOfStay(
  { record, value, toMs, endedBy: save }: Stay,
  by: StaysWork['by'],
  other: (record: number) => Life | undefined,
  zone: string,
): StayGroup {
  if (by === 'value') return { value }
  if (!save || toMs === null) return {}
  switch (by) {
    case 'who':
      return { value: String(save.actorId) }
    case 'kind':
      return { value: save.actorKind }
    case 'month':
      return { value: `${wallClock(Math.floor(toMs), zone).date.slice(0, 7)}-01` }
    default: {
      const holding = spellAt(other(record) ?? [], save.at)?.holding
      return holding?.state === 'value' ? { value: holding.value } : {}
    }
  }
}

/** The saves that ended the stays of a group; null where one sentence cannot say them. */
export function scopeOfStays(scope: Scope, work: StaysWork, fieldId: number, { value }: StayGroup): Scope | null {
  const ended: ValueTest[] =
    work.to !== null ? [{ test: 'to', value: work.to }] : work.from === null ? [] : [{ test: 'from', value: work.from }]
  if (value === undefined) return null
  if (work.by === 'value') return scopeOfValues(scope, fieldId, [{ test: 'from', value }])
  if (work.by !== 'who') return null
  const meant = scopeOfValues(scope, fieldId, ended)
  return meant && withPart(meant, { part: 'who', exclude: false, actors: [Number(value)], kinds: [] })
}

/** Changes of one field with some values, within a scope. */
export function scopeOfValues(scope: Scope, fieldId: number, tests: readonly ValueTest[]): Scope | null {
  const what = withPart(scope, { part: 'what', exclude: false, types: [], fields: [fieldId] })
  if (tests.length === 0) return what
  if (scope.value?.exclude) return null
  return withPart(what, { part: 'value', exclude: false, tests: [...(scope.value?.tests ?? []), ...tests] })
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
  const steps: Step[] = []
  const places = new Map<string | null, Map<string | null, Step>>()
  const stepOf = (from: string | null, to: string | null) => {
    let own = places.get(from)
    if (!own) places.set(from, (own = new Map()))
    let step = own.get(to)
    if (!step) {
      step = { from, to, many: 0, back: 0 }
      own.set(to, step)
      steps.push(step)
    }
    return step
  }
  for (const life of lives) {
    const held = new Set<string | null>()
    let before: Holding | undefined
    for (const { holding } of life) {
      if (before?.state === 'value' && holding.state === 'value' && before.value !== holding.value) {
        const step = stepOf(before.value, holding.value)
        step.many++
        if (held.has(holding.value)) step.back++
      }
      if (holding.state === 'value') held.add(holding.value)
      // One that comes back under its key begins anew.
      if (holding.state === 'absent') held.clear()
      before = holding
    }
  }
  return steps.sort((a, b) => b.many - a.many)
}
