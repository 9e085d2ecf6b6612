/** Where the parts of a record's key stand in the address of its page: `{1}` is the first. */
const placeholder = /\{(\d{1,2})\}/g

/** What keeps a pattern from being the address of records' own pages, in words; null where nothing does. */
export function patternTrouble(pattern: string, keyParts: number): string | null {
  const numbers = [...pattern.matchAll(placeholder)].map((match) => Number(match[1]))
  if (numbers.length === 0) return 'It has to say where the key stands: {1} for its first part.'
  if (numbers.some((number) => number < 1 || number > keyParts))
    return keyParts === 1 ? 'The key has one part: {1}.' : `The key has ${keyParts} parts: {1} to {${keyParts}}.`
  const [one, other] = ['a', 'b'].map((text) => parsed(pattern.replace(placeholder, text)))
  if (!one || !other || (one.protocol !== 'https:' && one.protocol !== 'http:'))
    return 'It has to be an address that begins with https:// or http://.'
  if (one.host !== other.host) return 'The key may not stand in the name of the server.'
  if (one.username !== '' || one.password !== '') return 'It may hold neither a name nor a password.'
  return null
}

/**
 * The address of a record's own page in the business application. Whatever the key holds stays one part of the address: what
 * would lead elsewhere (a part of dots, half a character, nothing) has no page.
 * @param key canonical text of the key's parts
 */
export function pageAddress(pattern: string, key: string): string | null {
  let parts: string[]
  try {
    parts = JSON.parse(key) as string[]
  } catch {
    return null
  }
  const escaped = parts.map(escapedPart)
  let whole = true
  const address = pattern.replace(placeholder, (_, number: string) => {
    const part = escaped[Number(number) - 1] ?? null
    if (part === null) whole = false
    return part ?? ''
  })
  return whole && parsed(address) ? address : null
}

function escapedPart(part: string): string | null {
  if (part === '' || part === '.' || part === '..') return null
  try {
    return encodeURIComponent(part).replace(/[!'()*]/g, (sign) => `%${sign.charCodeAt(0).toString(16).toUpperCase()}`)
  } catch {
    return null
  }
}

interface Address {
  protocol: string
  host: string
  username: string
  password: string
}

/** Read without a library of the platform's, of which core knows none. */
function parsed(address: string): Address | null {
  const match = /^(https?:)\/\/(?:([^/?#@:]*)(?::([^/?#@]*))?@)?([^/?#@\s\\]+)([/?#][^\s\\]*)?$/i.exec(address)
  if (!match || [...address].some((sign) => sign < ' ')) return null
  return { protocol: match[1]!.toLowerCase(), username: match[2] ?? '', password: match[3] ?? '', host: match[4]! }
}
