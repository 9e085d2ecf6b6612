/** What JSON can say. */
export type Json = null | boolean | number | string | readonly Json[] | { readonly [name: string]: Json }

/**
 * Canonical JSON (RFC 8785): no spaces, names sorted by their UTF-16 code units, numbers and strings as ECMAScript
 * writes them.
 * @throws RangeError for numbers that JSON has none of, and for halves of surrogate pairs, which have no UTF-8 (RFC 8785, 3.2.2.2).
 */
export function canonicalJson(value: Json): string {
  if (value === null || typeof value === 'boolean') return String(value)
  if (typeof value === 'number') {
    if (!Number.isFinite(value)) throw new RangeError('JSON has no such number')
    return JSON.stringify(value)
  }
  if (typeof value === 'string') return canonicalText(value)
  if (isList(value)) return `[${value.map(canonicalJson).join(',')}]`
  const names = Object.keys(value).sort()
  return `{${names.map((name) => `${canonicalText(name)}:${canonicalJson(value[name]!)}`).join(',')}}`
}

function isList(value: Json): value is readonly Json[] {
  return Array.isArray(value)
}

/** Half of a pair of surrogates, without the other half. */
const lone = /[\uD800-\uDBFF](?![\uDC00-\uDFFF])|(?:[^\uD800-\uDBFF]|^)[\uDC00-\uDFFF]/

function canonicalText(text: string): string {
  if (lone.test(text)) throw new RangeError('half of a surrogate pair has no UTF-8')
  return JSON.stringify(text)
}
