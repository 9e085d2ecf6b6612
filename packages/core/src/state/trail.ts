import type { SaveAction } from '../capture/fold.ts'
import type { CapturedValue } from '../value/type.ts'

/** Why a value of the trail may not be shown to whoever reads it. */
export type Hidden = 'erased' | 'masked'

export interface TrailChange {
  fieldId: number
  before: CapturedValue
  after: CapturedValue
  hidden: Hidden | null
}

/** One save of a record. Instants are ISO 8601 in UTC, of any number of digits after the second. */
export interface TrailSave {
  id: string
  at: string
  action: SaveAction
  changes: readonly TrailChange[]
}

/** A spell in which a field was tracked; `to` is null while it is. */
export interface CoverageSpell {
  fieldId: number
  from: string
  to: string | null
}

/** A value that was there when somebody looked, without a change that brought it. */
export interface FoundValue {
  fieldId: number
  at: string
  value: CapturedValue
  hidden: Hidden | null
}

/** Everything that is known of one record: its saves in the order of the ledger, what was tracked when, and what was found. */
export interface Trail {
  saves: readonly TrailSave[]
  coverage: readonly CoverageSpell[]
  found: readonly FoundValue[]
}

/**
 * `untracked`: before tracking began, or after it ended. `gap`: between two spells of tracking. `unseen`: tracked, and nothing
 * that happened says what it was. `contradicted`: what one save left is not what the next one met.
 */
export type WhyUnknown = 'untracked' | 'gap' | 'unseen' | 'contradicted' | Hidden

/** What a field held: a value (NULL is one), nothing since the record was not there, or something that is not known. */
export type Holding =
  { state: 'value'; value: CapturedValue } | { state: 'absent' } | { state: 'unknown'; why: WhyUnknown }

export const absent: Holding = { state: 'absent' }

export function value(of: CapturedValue): Holding {
  return { state: 'value', value: of }
}

export function unknown(why: WhyUnknown): Holding {
  return { state: 'unknown', why }
}

export function sameHolding(a: Holding, b: Holding): boolean {
  if (a.state === 'value' && b.state === 'value') return a.value === b.value
  if (a.state === 'unknown' && b.state === 'unknown') return a.why === b.why
  return a.state === b.state
}

/**
 * Orders instants of {@link TrailSave}: a fraction is written without zeros at its end, so texts sort but where one goes on
 * as the other ends.
 */
export function compareInstants(a: string, b: string): number {
  if (a === b) return 0
  if (a.length < b.length && goesOn(b, a)) return -1
  if (b.length < a.length && goesOn(a, b)) return 1
  return a < b ? -1 : 1
}

/** Whether an instant is that of a shorter text and a fraction more: nearly always their first digits differ. */
const goesOn = (long: string, short: string) =>
  long.charCodeAt(short.length - 2) === short.charCodeAt(short.length - 2) && long.startsWith(short.slice(0, -1))

/** The place of the first of some instants in order that is past one. */
export const firstPast = (instants: readonly string[], at: string): number =>
  firstReached(instants, (one) => compareInstants(one, at) > 0)

/** The place of the first of some instants in order that is not before one. */
export const firstNotBefore = (instants: readonly string[], at: string): number =>
  firstReached(instants, (one) => compareInstants(one, at) >= 0)

function firstReached(instants: readonly string[], reached: (one: string) => boolean): number {
  let [low, high] = [0, instants.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if (reached(instants[middle]!)) high = middle
    else low = middle + 1
  }
  return low
}
