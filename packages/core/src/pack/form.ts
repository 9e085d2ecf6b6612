import { fromBase64, toBase64 } from '../proof/bytes.ts'

/** What the files of a pack are called and begin with (rules 18 to 20). */

export const savesHeading = 'pack of saves, 1'
export const packFiles = {
  bag: 'bagit.txt',
  info: 'bag-info.txt',
  manifest: 'manifest-sha256.txt',
  tagManifest: 'tagmanifest-sha256.txt',
  cover: 'data/cover.json',
  saves: 'data/saves.ndjson',
  signature: 'signature.txt',
  timeStamp: 'time-stamp.tsr',
} as const

/** Why a change of a save in a pack is not open: it was not among what was asked for. */
export const notAskedFor = 'not asked for'

export const bagDeclaration = 'BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n'

/** What is signed of a pack (rule 20). */
export interface PackStatement {
  origin: string
  number: number
  /** Bytes of the archive before the signature, and their SHA-256. */
  bytes: number
  archive: Uint8Array
  /** SHA-256 of the manifest of tag files, which names all else. */
  manifest: Uint8Array
  at: string
}

export function packStatementText({ origin, number, bytes, archive, manifest, at }: PackStatement): string {
  return `${origin}\npack ${number}\narchive ${bytes} ${toBase64(archive)}\nmanifest ${toBase64(manifest)}\ntime ${at}\n`
}

/** @returns null for what is not such a text, to the letter. */
export function readPackStatement(text: string): PackStatement | null {
  const match =
    /^([^\n]{1,200})\npack ([1-9]\d{0,9})\narchive (\d{1,15}) ([A-Za-z0-9+/=]{44})\nmanifest ([A-Za-z0-9+/=]{44})\ntime (\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z)\n$/.exec(
      text,
    )
  if (!match) return null
  const [archive, manifest] = [fromBase64(match[4]!), fromBase64(match[5]!)]
  if (archive?.length !== 32 || manifest?.length !== 32) return null
  const statement = {
    origin: match[1]!,
    number: Number(match[2]),
    bytes: Number(match[3]),
    archive,
    manifest,
    at: match[6]!,
  }
  return packStatementText(statement) === text ? statement : null
}

/** A manifest of a bag (RFC 8493, 2.1.3): digests in hexadecimal digits by name. @returns null for what is none */
export function readManifest(text: string): Map<string, string> | null {
  if (!text.endsWith('\n')) return null
  const lines = text.slice(0, -1).split('\n')
  const named = lines.map((line) => /^([0-9a-f]{64}) {2}(\S+)$/.exec(line))
  const digests = new Map(named.flatMap((match) => (match ? [[match[2]!, match[1]!]] : [])))
  return digests.size === lines.length ? digests : null
}

export function manifestText(digests: readonly (readonly [name: string, hex: string])[]): string {
  return digests.map(([name, hex]) => `${hex}  ${name}\n`).join('')
}
