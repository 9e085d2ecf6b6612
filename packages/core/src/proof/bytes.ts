/** SHA-256 of bytes, or of a text's UTF-8; passed in, since core has no I/O. */
export type Sha256 = (data: Uint8Array | string) => Uint8Array
/** The same of a text, in hexadecimal digits. */
export type Sha256Hex = (text: string) => string

const alphabet = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/'
const hexDigits = Array.from({ length: 256 }, (_, byte) => byte.toString(16).padStart(2, '0'))

export function toHex(bytes: Uint8Array): string {
  let text = ''
  for (const byte of bytes) text += hexDigits[byte]
  return text
}

/** @returns null for what is not hexadecimal. */
export function fromHex(text: string): Uint8Array | null {
  if (text.length % 2 !== 0) return null
  const bytes = new Uint8Array(text.length / 2)
  for (let at = 0; at < bytes.length; at++) {
    const [high, low] = [hexValue(text.charCodeAt(at * 2)), hexValue(text.charCodeAt(at * 2 + 1))]
    if (high < 0 || low < 0) return null
    bytes[at] = high * 16 + low
  }
  return bytes
}

/** Of a lower-case hexadecimal digit; -1 of anything else. */
function hexValue(code: number): number {
  if (code >= 48 && code <= 57) return code - 48
  return code >= 97 && code <= 102 ? code - 87 : -1
}

/** Base64 with padding (RFC 4648, 4). */
export function toBase64(bytes: Uint8Array): string {
  let text = ''
  for (let at = 0; at < bytes.length; at += 3) {
    const [a, b, c] = [bytes[at]!, bytes[at + 1], bytes[at + 2]]
    const bits = (a << 16) | ((b ?? 0) << 8) | (c ?? 0)
    const part = [18, 12, 6, 0].map((shift) => alphabet[(bits >> shift) & 63]!).join('')
    text += b === undefined ? `${part.slice(0, 2)}==` : c === undefined ? `${part.slice(0, 3)}=` : part
  }
  return text
}

const digitOf = new Int16Array(128).fill(-1)
for (let at = 0; at < alphabet.length; at++) digitOf[alphabet.charCodeAt(at)] = at

/** @returns null for what is not base64 with padding, or has bits left over. */
export function fromBase64(text: string): Uint8Array | null {
  if (text.length % 4 !== 0) return null
  const padding = text.endsWith('==') ? 2 : text.endsWith('=') ? 1 : 0
  const digits = text.length - padding
  const bytes = new Uint8Array((text.length / 4) * 3 - padding)
  let [bits, held, to] = [0, 0, 0]
  for (let at = 0; at < digits; at++) {
    const digit = digitOf[text.charCodeAt(at)] ?? -1
    if (digit < 0) return null
    bits = ((bits << 6) | digit) & 0xffff
    held += 6
    if (held < 8) continue
    held -= 8
    bytes[to++] = bits >> held
  }
  return (bits & ((1 << held) - 1)) === 0 ? bytes : null
}

export function sameBytes(a: Uint8Array, b: Uint8Array): boolean {
  if (a.length !== b.length) return false
  for (let at = 0; at < a.length; at++) if (a[at] !== b[at]) return false
  return true
}

export function joinBytes(...parts: readonly Uint8Array[]): Uint8Array {
  const joined = new Uint8Array(parts.reduce((sum, part) => sum + part.length, 0))
  let at = 0
  for (const part of parts) {
    joined.set(part, at)
    at += part.length
  }
  return joined
}
