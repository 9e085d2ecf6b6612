/**
 * What a record's label is made of, where part of it is what another record is called: the texts of its own columns in
 * order, and of each which type's record it names, if any.
 */
export interface LabelParts {
  parts: readonly (string | null)[]
  refersTo: readonly (number | null)[]
}

const separator = ' · '
/** So much of what another record is called goes into a label. */
const longest = 120

/** The key under which a record whose key is one column is known. */
export function keyOfOne(value: string): string {
  return JSON.stringify([value])
}

/** The value whose record is known under a key of one column; null where the key has more. */
export function valueOfOne(key: string): string | null {
  const values = JSON.parse(key) as string[]
  return values.length === 1 ? values[0]! : null
}

/** The records that a label names, each with its type. */
export function namedBy({ parts, refersTo }: LabelParts): { typeId: number; key: string }[] {
  return parts.flatMap((part, at) => {
    const typeId = refersTo[at] ?? null
    return part === null || typeId === null ? [] : [{ typeId, key: keyOfOne(part) }]
  })
}

/**
 * A label in which other records stand by what they are called: a number that leads theirs, and tells them apart from
 * others of their type, is left out where there is more. One that nobody knows stays as it is written.
 */
export function composedLabel(
  { parts, refersTo }: LabelParts,
  nameOf: (typeId: number, key: string) => string | undefined,
): string {
  const texts = parts.flatMap((part, at) => {
    if (part === null || part === '') return []
    const typeId = refersTo[at] ?? null
    const name = typeId === null ? undefined : nameOf(typeId, keyOfOne(part))
    const led = `${part}${separator}`
    if (name === undefined || name === '' || name === led) return [part]
    const short = name.startsWith(led) ? name.slice(led.length) : name
    return [short.length > longest ? `${short.slice(0, longest)}…` : short]
  })
  return texts.join(separator)
}
