import { diffWordsWithSpace } from 'diff'

/** A stretch of text that stands on both sides, or only before, or only after. */
export interface TextPart {
  side: 'both' | 'before' | 'after'
  text: string
}

/** Texts that differ in more words than this are shown whole instead; comparing them would take too long. */
const mostEdits = 1500
const longestText = 200_000

/** Where two texts differ, word by word; null when they differ in too much to be told so. */
export function textParts(before: string, after: string): TextPart[] | null {
  if (before.length > longestText || after.length > longestText) return null
  const parts = diffWordsWithSpace(before, after, { maxEditLength: mostEdits })
  return (
    parts?.map(({ added, removed, value }) => ({ side: added ? 'after' : removed ? 'before' : 'both', text: value })) ??
    null
  )
}

/** One place inside a json value that differs; what is not there is undefined, what is null is the text `null`. */
export interface JsonDifference {
  /** "heating.zones[2].name"; the whole value is "". */
  path: string
  before: string | undefined
  after: string | undefined
}

const mostPlaces = 300
const deepest = 60

/** Where two json texts differ, by path; null when one is no json or they differ in too many places. */
export function jsonDifferences(before: string, after: string): JsonDifference[] | null {
  const [from, to] = [parsed(before), parsed(after)]
  if (!from || !to) return null
  const found: JsonDifference[] = []
  return compare('', from.value, to.value, found, 0) ? found : null
}

function parsed(text: string): { value: unknown } | null {
  try {
    // Numbers stay as they are written, so that no digit is lost: they are read as texts of their own kind.
    return {
      value: JSON.parse(
        text.replace(
          /("(?:[^"\\]|\\.)*")|(-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)/g,
          (_, string?: string, number?: string) => string ?? JSON.stringify({ [numberMark]: number }),
        ),
      ),
    }
  } catch (error) {
    if (error instanceof SyntaxError) return null
    throw error
  }
}

const numberMark = '\u0000number'
const isObject = (value: unknown): value is Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value) && !(numberMark in value)

function shown(value: unknown): string | undefined {
  if (value === undefined) return undefined
  if (typeof value === 'string') return value
  return JSON.stringify(value).replace(/\{"\\u0000number":"([^"]*)"\}/g, '$1')
}

/** @returns false when there are too many places, or they lie too deep. */
function compare(path: string, from: unknown, to: unknown, found: JsonDifference[], depth: number): boolean {
  if (depth > deepest) return false
  if (isObject(from) && isObject(to)) {
    const names = [...new Set([...Object.keys(from), ...Object.keys(to)])]
    return names.every((name) =>
      compare(path === '' ? name : `${path}.${name}`, from[name], to[name], found, depth + 1),
    )
  }
  if (Array.isArray(from) && Array.isArray(to)) {
    const length = Math.max(from.length, to.length)
    for (let at = 0; at < length; at++) if (!compare(`${path}[${at}]`, from[at], to[at], found, depth + 1)) return false
    return true
  }
  const [before, after] = [shown(from), shown(to)]
  if (before !== after || typeof from !== typeof to) found.push({ path, before, after })
  return found.length <= mostPlaces
}
