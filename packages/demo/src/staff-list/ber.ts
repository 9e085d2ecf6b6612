/** As much of the basic encoding rules (X.690) as a directory that is only read needs. */
export interface Element {
  tag: number
  content: Buffer
}

export const universal = { integer: 0x02, octetString: 0x04, enumerated: 0x0a, sequence: 0x30, set: 0x31 } as const

export function element(tag: number, ...content: (Buffer | string)[]): Buffer {
  const body = Buffer.concat(content.map((part) => (typeof part === 'string' ? Buffer.from(part) : part)))
  return Buffer.concat([Buffer.from([tag]), lengthOf(body.length), body])
}

function lengthOf(length: number): Buffer {
  if (length < 0x80) return Buffer.from([length])
  const bytes: number[] = []
  for (let rest = length; rest > 0; rest >>>= 8) bytes.unshift(rest & 0xff)
  return Buffer.from([0x80 | bytes.length, ...bytes])
}

export function integer(value: number, tag: number = universal.integer): Buffer {
  const bytes = Buffer.alloc(4)
  bytes.writeInt32BE(value)
  let from = 0
  while (from < 3 && bytes[from] === 0 && (bytes[from + 1]! & 0x80) === 0) from++
  return element(tag, bytes.subarray(from))
}

/** The first element of some bytes and how many it takes, or null while it is not all there. */
export function readElement(bytes: Buffer): { element: Element; size: number } | null {
  if (bytes.length < 2) return null
  let at = 2
  let length = bytes[1]!
  if (length & 0x80) {
    const count = length & 0x7f
    if (bytes.length < 2 + count) return null
    length = bytes.subarray(2, 2 + count).reduce((sum, byte) => sum * 256 + byte, 0)
    at += count
  }
  if (bytes.length < at + length) return null
  return { element: { tag: bytes[0]!, content: bytes.subarray(at, at + length) }, size: at + length }
}

export function children(content: Buffer): Element[] {
  const list: Element[] = []
  for (let rest = content; rest.length > 0;) {
    const next = readElement(rest)
    if (!next) break
    list.push(next.element)
    rest = rest.subarray(next.size)
  }
  return list
}
