import Big from 'big.js'
import { arrayMembers } from './array.ts'
import { valueKind, type CapturedValue } from './type.ts'

/** What changed between two values of one type, in the terms a person would use. */
export type Difference =
  | { kind: 'none' }
  | { kind: 'appeared' }
  | { kind: 'vanished' }
  | {
      kind: 'number'
      /** Exact, in the value's own unit; a plain decimal with its sign. */
      by: string
      /** Percentage of the before-value, rounded to one decimal; null when the before-value is zero. */
      percent: number | null
    }
  | { kind: 'days'; by: number }
  | { kind: 'members'; added: string[]; removed: string[] }
  | { kind: 'other' }

const decimal = /^-?\d+(\.\d+)?([eE][-+]?\d+)?$/
/** Longer ones are no amounts anybody compares, and their powers of ten would fill the memory. */
const longestDecimal = 60

/** Whether a value is a number that can be reckoned with: no NaN, no infinity, no giant. */
export function isDecimal(text: string): boolean {
  return (
    text.length <= longestDecimal &&
    decimal.test(text) &&
    Math.abs(Number(/[eE]([-+]?\d+)$/.exec(text)?.[1] ?? 0)) < 400
  )
}

/** `baseType` as for {@link valueKind}. Values that are not what their type says (NaN, infinity) differ as 'other'. */
export function difference(before: CapturedValue, after: CapturedValue, baseType: string): Difference {
  if (before === after) return { kind: 'none' }
  if (before === null) return { kind: 'appeared' }
  if (after === null) return { kind: 'vanished' }
  switch (valueKind(baseType)) {
    case 'number':
      return numberDifference(before, after)
    case 'date':
      return dayDifference(before, after)
    case 'set':
      return memberDifference(before, after)
    default:
      return { kind: 'other' }
  }
}

function numberDifference(before: string, after: string): Difference {
  if (!isDecimal(before) || !isDecimal(after)) return { kind: 'other' }
  const from = new Big(before)
  const by = new Big(after).minus(from)
  const percent = from.eq(0) ? null : Number(by.div(from.abs()).times(100).round(1).toString())
  return { kind: 'number', by: by.toFixed(), percent }
}

function dayDifference(before: string, after: string): Difference {
  const from = Date.parse(`${before}T00:00:00Z`)
  const to = Date.parse(`${after}T00:00:00Z`)
  if (!Number.isFinite(from) || !Number.isFinite(to)) return { kind: 'other' }
  return { kind: 'days', by: Math.round((to - from) / 86_400_000) }
}

function memberDifference(before: string, after: string): Difference {
  const from = arrayMembers(before)
  const to = arrayMembers(after)
  if (!from || !to) return { kind: 'other' }
  const text = (member: CapturedValue) => member ?? 'nothing'
  const added = to.filter((member) => !from.includes(member)).map(text)
  const removed = from.filter((member) => !to.includes(member)).map(text)
  return added.length || removed.length ? { kind: 'members', added, removed } : { kind: 'other' }
}

/**
 * What a number moved by, as exact decimal text, and that as a share of the value before; the share is null when that
 * was zero. Null when one of the two is no number.
 */
export function rise(before: CapturedValue, after: CapturedValue): { by: string; share: number | null } | null {
  if (before === null || after === null) return null
  const small = smallRise(before, after)
  if (small) return small
  if (!isDecimal(before) || !isDecimal(after)) return null
  const from = new Big(before)
  const by = new Big(after).minus(from)
  return { by: by.toFixed(), share: from.eq(0) ? null : Number(by.div(from.abs())) }
}

/** The sum of two exact decimal texts, as another. */
export const addDecimals = (a: string, b: string): string => new Big(a).plus(b).toFixed()

/** Whether one exact decimal text is more than another. */
export const isMore = (a: string, b: string): boolean => new Big(a).gt(b)

const smallDecimal = /^-?\d{1,11}(?:\.(\d{1,4}))?$/

/** The same for amounts that fit a double as whole numbers of their last digit; it is asked of every number saved. */
function smallRise(before: string, after: string): { by: string; share: number | null } | null {
  const [from, to] = [smallDecimal.exec(before), smallDecimal.exec(after)]
  if (!from || !to) return null
  const places = Math.max(from[1]?.length ?? 0, to[1]?.length ?? 0)
  const scale = 10 ** places
  const [a, b] = [Math.round(Number(before) * scale), Math.round(Number(after) * scale)]
  const by = b - a
  const digits = String(Math.abs(by)).padStart(places + 1, '0')
  const text = places === 0 ? digits : `${digits.slice(0, -places)}.${digits.slice(-places)}`
  return { by: by < 0 ? `-${text}` : text, share: a === 0 ? null : by / Math.abs(a) }
}
