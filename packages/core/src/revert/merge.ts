import { diff3Merge } from 'node-diff3'
import { arrayLiteral, arrayMembers } from '../value/array.ts'
import { valueKind, type CapturedValue } from '../value/type.ts'

/** Longer texts are not merged: somebody could not look over what comes out. */
const longestMerged = 200_000

/**
 * What a value becomes when a change of it is set back and what others made of it since stays. Of a set, what the change added
 * goes and what it took away comes back; texts by three-way merge, of lines or else of words; json by path.
 * @param baseType catalogue name of the value's type, domains resolved
 * @param found what the change left @param now what is there @param target what was there before the change
 * @returns null where both have made something of the same part, or the type has no parts. The text may differ in form from
 *   what the type's output function writes.
 */
export function mergedValue(
  baseType: string,
  { found, now, target }: { found: CapturedValue; now: CapturedValue; target: CapturedValue },
): string | null {
  const kind = valueKind(baseType)
  if (kind === 'set') return mergedSet(found, now, target)
  // Nothing is neither a text without words nor one to be taken apart.
  if (found === null || now === null || target === null) return null
  if (Math.max(found.length, now.length, target.length) > longestMerged) return null
  if (kind === 'json') return mergedJson(found, now, target)
  if (kind === 'text') return mergedText(found, now, target)
  return null
}

/** No set at all has no members. */
function mergedSet(found: CapturedValue, now: CapturedValue, target: CapturedValue): string | null {
  const read = (value: CapturedValue) => (value === null ? [] : arrayMembers(value))
  const [base, ours, theirs] = [read(found), read(now), read(target)]
  if (!base || !ours || !theirs) return null
  // What holds a member twice is a list, and where it has its place is a matter of its own.
  if ([base, ours, theirs].some((members) => new Set(members).size < members.length)) return null
  const [had, gets] = [new Set(base), new Set(theirs)]
  const kept = ours.filter((member) => !had.has(member) || gets.has(member))
  const back = theirs.filter((member) => !had.has(member) && !kept.includes(member))
  return arrayLiteral([...kept, ...back])
}

function mergedText(found: string, now: string, target: string): string | null {
  const lines = [found, now, target].some((text) => text.includes('\n'))
  const parts = (text: string) => text.split(lines ? /(?<=\n)/ : /(?<=\s)(?=\S)|(?<=\S)(?=\s)/)
  const regions = diff3Merge(parts(now), parts(found), parts(target), { excludeFalseConflicts: true })
  const merged: string[] = []
  for (const region of regions) {
    if (!region.ok) return null
    merged.push(...region.ok)
  }
  return merged.join('')
}

type Json = null | boolean | number | string | Json[] | { [name: string]: Json }

function mergedJson(found: string, now: string, target: string): string | null {
  // What a number loses in reading would be lost in the record.
  if ([found, now, target].some((text) => !readsBack(text))) return null
  const merged = mergedPart(JSON.parse(found) as Json, JSON.parse(now) as Json, JSON.parse(target) as Json)
  return merged === conflict || merged === absent ? null : JSON.stringify(merged)
}

const conflict = Symbol('conflict')
const absent = Symbol('absent')
type Part = Json | typeof absent

const isObject = (value: Part | typeof conflict): value is { [name: string]: Json } =>
  typeof value === 'object' && value !== null && !Array.isArray(value)

function same(a: Part, b: Part): boolean {
  if (a === b) return true
  if (Array.isArray(a) && Array.isArray(b)) return a.length === b.length && a.every((one, at) => same(one, b[at]!))
  if (!isObject(a) || !isObject(b)) return false
  const names = Object.keys(a)
  return (
    names.length === Object.keys(b).length && names.every((name) => Object.hasOwn(b, name) && same(a[name]!, b[name]!))
  )
}

function mergedPart(found: Part, now: Part, target: Part): Part | typeof conflict {
  if (same(now, found)) return target
  if (same(target, found) || same(now, target)) return now
  if (!isObject(found) || !isObject(now) || !isObject(target)) return conflict
  const part = (of: { [name: string]: Json }, name: string): Part => (Object.hasOwn(of, name) ? of[name]! : absent)
  const entries: [string, Json][] = []
  for (const name of new Set([...Object.keys(now), ...Object.keys(target)])) {
    const merged = mergedPart(part(found, name), part(now, name), part(target, name))
    if (merged === conflict) return conflict
    if (merged !== absent) entries.push([name, merged])
  }
  return Object.fromEntries(entries)
}

/** Whether every number of a json text is the same after reading and writing it, and no object has a name twice. */
function readsBack(text: string): boolean {
  const bare = text.replace(/"(?:[^"\\]|\\.)*"/g, '""')
  if ([...bare.matchAll(/-?\d[\d.eE+-]*/g)].some(([number]) => String(Number(number)) !== number)) return false
  const names = [...bare.matchAll(/""\s*:/g)].length
  let counted = 0
  JSON.parse(text, (_, value: Json) => {
    if (isObject(value)) counted += Object.keys(value).length
    return value
  })
  return names === counted
}
