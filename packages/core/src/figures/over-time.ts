import Big from 'big.js'
import type { Segment } from '../state/timeline.ts'
import type { Holding } from '../state/trail.ts'
import { microsOf } from '../time/micros.ts'
import { isDecimal } from '../value/difference.ts'
import type { LifeSave } from './parts.ts'

/**
 * A spell of a timeline with the save that brought it, where one did. All of a type are gone through at once, so that its
 * instants are numbers: microseconds since 1970.
 */
export interface LifeSpell extends Pick<Segment, 'holding' | 'found'> {
  /** Null: from the beginning of time. */
  from: number | null
  /** Not included; null: without end. */
  to: number | null
  save: LifeSave | null
}

/** A field of one record over all of time, as its timeline has it. */
export type Life = readonly LifeSpell[]

/** @param saveOf of a save that began a segment what is known of it */
export function lifeOf(segments: readonly Segment[], saveOf: (id: string) => LifeSave | undefined): Life {
  const life: LifeSpell[] = []
  for (const { from: instant, holding, by, found } of segments) {
    const from = instant === null ? null : microsOf(instant)
    const last = life.at(-1)
    // A spell ends where the next begins.
    if (last) last.to = from
    life.push({ from, to: null, holding, found, save: by === null ? null : (saveOf(by) ?? null) })
  }
  return life
}

/** The spell that holds at a moment. @param at microseconds since 1970 */
export const spellAt = (life: Life, at: number): LifeSpell | undefined =>
  life.findLast(({ from }) => from === null || from <= at)

/** A number of all records at one moment. */
export interface FigurePoint {
  /** The sum of what is known and a number, exact; null where nothing is known. */
  total: string | null
  /** Records that hold a number. */
  numbers: number
  /** Records that are there and hold nothing, or what is no number. */
  without: number
  /** Records of which it is not known what they held, or whether they were there. */
  unknown: number
}

/** Exact sums of decimals as whole numbers of their last digit. */
class Sums {
  #places = 0
  readonly #known = new Map<string, bigint>()

  /** In whole numbers of the last digit so far; null for what is no number. */
  scaled(text: string): bigint | null {
    const known = this.#known.get(text)
    if (known !== undefined) return known
    if (!isDecimal(text)) return null
    const plain = /e/i.test(text) ? new Big(text).toFixed() : text
    const [whole, rest = ''] = plain.split('.')
    if (rest.length > this.#places) this.#grow(rest.length)
    const number = BigInt(`${whole}${rest.padEnd(this.#places, '0')}`)
    this.#known.set(text, number)
    return number
  }

  /** Values are taken in all before the first sum is made, so that no sum is of another size. */
  #grow(places: number): void {
    this.#places = places
    this.#known.clear()
  }

  text(sum: bigint): string {
    const digits = (sum < 0n ? -sum : sum).toString().padStart(this.#places + 1, '0')
    const cut = digits.length - this.#places
    return `${sum < 0n ? '-' : ''}${digits.slice(0, cut)}${this.#places > 0 ? `.${digits.slice(cut)}` : ''}`
  }
}

function sumsFor(lives: Iterable<Life>): Sums {
  const sums = new Sums()
  for (const life of lives)
    for (const { holding } of life) if (holding.state === 'value' && holding.value !== null) sums.scaled(holding.value)
  return sums
}

/**
 * A number of all records at some moments.
 * @param edges instants (ISO 8601 in UTC) in order; each stands for the moment just before it, so that the end of a day is the beginning of
 *   the next
 */
export function figureAt(lives: readonly Life[], edges: readonly string[]): FigurePoint[] {
  const sums = sumsFor(lives)
  const instants = Float64Array.from(edges, microsOf)
  const many = edges.length + 1
  const total = new Array<bigint>(many).fill(0n)
  const [numbers, without, unknown] = [new Int32Array(many), new Int32Array(many), new Int32Array(many)]
  for (const life of lives)
    for (const { from, to, holding } of life) {
      if (holding.state === 'absent') continue
      const first = from === null ? 0 : firstPast(instants, from)
      const end = to === null ? edges.length : firstPast(instants, to)
      if (first >= end) continue
      const number = holding.state === 'value' && holding.value !== null ? sums.scaled(holding.value) : null
      const counts = holding.state === 'unknown' ? unknown : number === null ? without : numbers
      counts[first]!++
      counts[end]!--
      if (number !== null) {
        total[first]! += number
        total[end]! -= number
      }
    }
  let [sum, n, w, u] = [0n, 0, 0, 0]
  return edges.map((_, at) => {
    sum += total[at]!
    n += numbers[at]!
    w += without[at]!
    u += unknown[at]!
    return { total: n + w === 0 && u > 0 ? null : sums.text(sum), numbers: n, without: w, unknown: u }
  })
}

/** How a number came to be another: by a save, or because what is known of it began or ended. */
export type MoveHow = 'begun' | 'ended' | 'changed' | 'known' | 'unknown'

/** The place of the first of some moments in order that is past one. */
function firstPast(moments: Float64Array, at: number): number {
  let [low, high] = [0, moments.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if (moments[middle]! > at) high = middle
    else low = middle + 1
  }
  return low
}

/** What moved a figure: by one save, or by none. */
export interface FigureMove {
  save: LifeSave | null
  how: MoveHow
  /** Microseconds since 1970. */
  at: number
  /** In whole numbers of the last digit that any of the values has. */
  difference: bigint
}

export interface FigureMoves {
  moves: FigureMove[]
  /** A sum of differences as exact decimal text. */
  text(sum: bigint): string
}

function howOf(before: Holding, after: Holding): MoveHow {
  if (after.state === 'unknown') return 'unknown'
  if (before.state === 'unknown') return 'known'
  if (before.state === 'absent') return 'begun'
  return after.state === 'absent' ? 'ended' : 'changed'
}

/**
 * What moved the sum of all records between two moments, of each move of each record. Their differences add up to that of
 * the sums at the two, whatever is not known counting as nothing.
 * @param from and `to` as the edges of {@link figureAt}
 * @param of the sum of numbers, or how many records there are
 */
export function figureMoves(
  lives: readonly Life[],
  from: string,
  to: string,
  of: 'numbers' | 'records' = 'numbers',
): FigureMoves {
  const sums = of === 'records' ? new Sums() : sumsFor(lives)
  const amountOf = (holding: Holding) =>
    holding.state === 'value' && holding.value !== null ? (sums.scaled(holding.value) ?? 0n) : 0n
  const numberOf = (holding: Holding) => (of === 'records' ? BigInt(holding.state === 'value') : amountOf(holding))
  const [first, end] = [microsOf(from), microsOf(to)]
  const moves: FigureMove[] = []
  for (const life of lives)
    for (let at = 1; at < life.length; at++) {
      const [before, after] = [life[at - 1]!, life[at]!]
      if (after.from! < first || after.from! >= end) continue
      const difference = numberOf(after.holding) - numberOf(before.holding)
      const how = howOf(before.holding, after.holding)
      if (difference === 0n && how === 'changed') continue
      moves.push({ save: after.save, how, at: after.from!, difference })
    }
  return { moves, text: (sum) => sums.text(sum) }
}

/** A mean to six digits after the point; null of none. */
export function meanOf(total: string | null, many: number): string | null {
  return total === null || many === 0 ? null : new Big(total).div(many).round(6).toFixed()
}
