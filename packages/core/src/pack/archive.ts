import { joinBytes } from '../proof/bytes.ts'
import { packFiles } from './form.ts'

/**
 * The form of a pack's archive (rule 21): a ZIP file (APPNOTE 6.3) of which every byte follows from the names and contents of
 * its files, so that nothing can hide in it, and of which one part is read at a time.
 */

export interface PackEntry {
  name: string
  /** CRC-32 of its content. */
  crc: number
  /** Bytes in the archive, and unpacked. */
  packed: number
  size: number
  /** Where its head begins. */
  offset: number
}

/** A file that is read in parts. */
export interface PartedFile {
  size: number
  /** Bytes from one place to another, that one not included. */
  read(from: number, to: number): Promise<Uint8Array>
}

/** What ZIP has no more room for: sizes and places are 32 bits. */
export const largestArchive = 0xffff_ffff
const mostEntries = 1000
const mostDirectory = 1_000_000
const headBytes = 30
export const descriptorBytes = 16
const centralBytes = 46
const endBytes = 22
/** Deflate makes nothing smaller than this. */
const mostUnpacked = 1100

/** Whole numbers of so many bytes each, the lowest byte first. */
function numbers(...parts: readonly (readonly [bytes: 2 | 4, value: number])[]): Uint8Array {
  const all = new Uint8Array(parts.reduce((sum, [bytes]) => sum + bytes, 0))
  let at = 0
  for (const [bytes, value] of parts) for (let n = 0; n < bytes; n++) all[at++] = Math.floor(value / 2 ** (8 * n)) % 256
  return all
}

const ascii = (text: string) => Uint8Array.from([...text].map((char) => char.charCodeAt(0)))

/**
 * The signature lies there as it is, since what is signed ends before it and packing leaves bits that say nothing; all else is
 * deflated (RFC 1951).
 */
export const isPacked = (name: string) => !name.endsWith(`/${packFiles.signature}`)

/** Version 2.0; sizes behind the content; how it is packed; the first day that ZIP knows. */
const common = (name: string) =>
  [
    [2, 20],
    [2, 8],
    [2, isPacked(name) ? 8 : 0],
    [2, 0],
    [2, 33],
  ] as const

/** What stands before a file's content. */
export function entryHead(name: string): Uint8Array {
  return joinBytes(
    numbers([4, 0x04034b50], ...common(name), [4, 0], [4, 0], [4, 0], [2, name.length], [2, 0]),
    ascii(name),
  )
}

/** What stands behind it. */
export function entryDescriptor({ crc, packed, size }: Omit<PackEntry, 'name' | 'offset'>): Uint8Array {
  return numbers([4, 0x08074b50], [4, crc], [4, packed], [4, size])
}

/** What an archive ends with. @param from where it begins */
export function archiveEnd(entries: readonly PackEntry[], from: number): Uint8Array {
  const directory = joinBytes(
    ...entries.map(({ name, crc, packed, size, offset }) =>
      joinBytes(
        numbers(
          [4, 0x02014b50],
          [2, 20],
          ...common(name),
          [4, crc],
          [4, packed],
          [4, size],
          [2, name.length],
          ...Array.from({ length: 4 }, () => [2, 0] as const),
          [4, 0],
          [4, offset],
        ),
        ascii(name),
      ),
    ),
  )
  return joinBytes(
    directory,
    numbers(
      [4, 0x06054b50],
      [2, 0],
      [2, 0],
      [2, entries.length],
      [2, entries.length],
      [4, directory.length],
      [4, from],
      [2, 0],
    ),
  )
}

const numberAt = (bytes: Uint8Array, at: number, length: 2 | 4) =>
  Array.from({ length }, (_, n) => (bytes[at + n] ?? 0) * 256 ** n).reduce((sum, part) => sum + part, 0)

/** Names that a pack's files may have: nothing that leads out of its folder, or is another name in another system. */
const goodName = /^pack-[1-9]\d{0,9}\/(data\/)?[a-z0-9][a-z0-9.-]{0,80}$/

/** A place at which an archive is not what it has to be. */
export interface Misshape {
  at: number
  words: string
}

/** Where two runs of bytes part, or null. */
export function parting(found: Uint8Array, expected: Uint8Array): number | null {
  for (let at = 0; at < expected.length; at++) if (found[at] !== expected[at]) return at
  return found.length === expected.length ? null : expected.length
}

/** The files of an archive, in their order, by what it ends with. @returns what keeps it from being read otherwise */
export async function readDirectory(file: PartedFile): Promise<{ entries: PackEntry[] } | Misshape> {
  const no = (at: number, words: string): Misshape => ({ at, words })
  if (file.size > largestArchive) return no(0, 'It is larger than any pack.')
  if (file.size < endBytes) return no(0, 'It is no pack, or was cut off.')
  const end = await file.read(file.size - endBytes, file.size)
  const from = numberAt(end, 16, 4)
  const length = numberAt(end, 12, 4)
  const count = numberAt(end, 10, 2)
  if (numberAt(end, 0, 4) !== 0x06054b50 || from + length + endBytes !== file.size)
    return no(file.size - endBytes, 'It is no pack, or was cut off, or something was added to it.')
  if (count > mostEntries || length > mostDirectory) return no(from, 'It has more files than any pack.')
  const directory = await file.read(from, file.size)
  const entries: PackEntry[] = []
  let [at, offset] = [0, 0]
  for (let n = 0; n < count; n++) {
    if (at + centralBytes > length) return no(from + at, 'Its list of files was cut off.')
    const nameLength = numberAt(directory, at + 28, 2)
    const name = String.fromCharCode(...directory.subarray(at + centralBytes, at + centralBytes + nameLength))
    const entry = {
      name,
      crc: numberAt(directory, at + 16, 4),
      packed: numberAt(directory, at + 20, 4),
      size: numberAt(directory, at + 24, 4),
      offset: numberAt(directory, at + 42, 4),
    }
    if (!goodName.test(name)) return no(from + at, `It has a file whose name no pack has: ${JSON.stringify(name)}.`)
    if (entries.some((other) => other.name === name)) return no(from + at, `It has ${name} twice.`)
    if (entry.offset !== offset) return no(from + at, `${name} is not where it has to be.`)
    if (entry.size > entry.packed * mostUnpacked)
      return no(from + at, `${name} says that it unpacks to an impossible size.`)
    entries.push(entry)
    offset += headBytes + name.length + entry.packed + descriptorBytes
    at += centralBytes + nameLength
  }
  if (offset !== from) return no(offset, 'There is something between its files and their list.')
  const apart = parting(directory, archiveEnd(entries, from))
  return apart === null ? { entries } : no(from + apart, 'Its list of files is not written as in a pack.')
}

/** Where a file's content begins. */
export const contentAt = ({ offset, name }: PackEntry) => offset + headBytes + name.length
