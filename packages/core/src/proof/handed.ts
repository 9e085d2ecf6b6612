import type { Opening } from './prove.ts'

/** Reading what somebody handed over: JSON that may hold anything. */

/** @returns undefined for what is no JSON */
export function parsed(line: string): unknown {
  try {
    return JSON.parse(line)
  } catch {
    return undefined
  }
}

export function field(value: unknown, name: string): unknown {
  return typeof value === 'object' && value !== null ? (value as Record<string, unknown>)[name] : undefined
}

export function text(value: unknown, name: string): string | null {
  const found = field(value, name)
  return typeof found === 'string' ? found : null
}

/** A leaf's number, or null for a save that no seal covers; undefined for whatever is neither. */
export function leafIndex(value: unknown): number | null | undefined {
  const index = field(value, 'index')
  return index === null || (Number.isSafeInteger(index) && (index as number) >= 0)
    ? (index as number | null)
    : undefined
}

const mostOpenings = 100_000
const isValue = (side: unknown): side is string | null => side === null || typeof side === 'string'

/** What opens a save's changes; null for whatever does not. */
export function openingsOf(value: unknown): Opening[] | null {
  const openings = field(value, 'openings')
  if (!Array.isArray(openings) || openings.length > mostOpenings) return null
  const opened = openings.flatMap((one: unknown) => {
    const [fieldId, salt, before, after] = [
      field(one, 'fieldId'),
      text(one, 'salt'),
      field(one, 'before'),
      field(one, 'after'),
    ]
    return typeof fieldId === 'number' && salt !== null && isValue(before) && isValue(after)
      ? [{ fieldId, salt, before, after }]
      : []
  })
  return opened.length === openings.length ? opened : null
}
