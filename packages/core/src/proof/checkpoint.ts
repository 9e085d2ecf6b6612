import { fromBase64, joinBytes, sameBytes, toBase64, toHex, type Sha256 } from './bytes.ts'

/** A seal's content: how far the ledger goes and what its root is (rule 8). */
export interface Checkpoint {
  /** Which ledger: one line, never two ledgers with the same. */
  origin: string
  size: number
  root: Uint8Array
  /** When it was sealed, ISO 8601 in UTC. */
  at: string
  /** How many events of Spoor itself it covers, and the end of their chain (rule 9). */
  events: number
  eventsEnd: Uint8Array
}

export function checkpointText({ origin, size, root, at, events, eventsEnd }: Checkpoint): string {
  return `${origin}\n${size}\n${toBase64(root)}\ntime ${at}\nevents ${events} ${toBase64(eventsEnd)}\n`
}

/** @returns null for what is not such a text, to the letter. */
export function readCheckpoint(text: string): Checkpoint | null {
  const match =
    /^([^\n]{1,200})\n(0|[1-9]\d{0,15})\n([A-Za-z0-9+/=]{44})\ntime (\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z)\nevents (0|[1-9]\d{0,15}) ([A-Za-z0-9+/=]{44})\n$/.exec(
      text,
    )
  if (!match) return null
  const [root, eventsEnd] = [fromBase64(match[3]!), fromBase64(match[6]!)]
  const checkpoint = {
    origin: match[1]!,
    size: Number(match[2]),
    root: root!,
    at: match[4]!,
    events: Number(match[5]),
    eventsEnd: eventsEnd!,
  }
  return root?.length === 32 && eventsEnd?.length === 32 && checkpointText(checkpoint) === text ? checkpoint : null
}

/** A public key with its name, as it is handed out. */
export interface NoteKey {
  name: string
  /** Ed25519, 32 bytes (RFC 8032). */
  publicKey: Uint8Array
}

const ed25519 = Uint8Array.of(1)

/** The four bytes by which a signature says whose it is (rule 10). */
export function keyId(sha256: Sha256, { name, publicKey }: NoteKey): Uint8Array {
  // The name has no character above 0x7F, so that its UTF-8 is its characters.
  const head = Uint8Array.from([...name, '\n'].map((char) => char.charCodeAt(0)))
  return sha256(joinBytes(head, ed25519, publicKey)).slice(0, 4)
}

/** "name+id+key": the public key as one line. */
export function keyLine(sha256: Sha256, key: NoteKey): string {
  return `${key.name}+${toHex(keyId(sha256, key))}+${toBase64(joinBytes(ed25519, key.publicKey))}`
}

/** @returns null for what is not such a line, or has an id that is not its key's. */
export function readKeyLine(sha256: Sha256, line: string): NoteKey | null {
  const match = /^([!-*,-~]{1,200})\+([0-9a-f]{8})\+([A-Za-z0-9+/=]{44})$/.exec(line.trim())
  const bytes = match && fromBase64(match[3]!)
  if (!match || bytes?.length !== 33 || bytes[0] !== 1) return null
  const key = { name: match[1]!, publicKey: bytes.slice(1) }
  return toHex(keyId(sha256, key)) === match[2] ? key : null
}

/** The fingerprint of a key, for people to compare: SHA-256 in groups of four (rule 10). */
export function keyFingerprint(sha256: Sha256, { publicKey }: NoteKey): string {
  return toHex(sha256(publicKey)).replace(/(.{4})(?=.)/g, '$1 ')
}

const dash = '\u2014'

/** A text with its signature: a signed note (rule 10). */
export function signedNote(sha256: Sha256, text: string, key: NoteKey, signature: Uint8Array): string {
  return `${text}\n${dash} ${key.name} ${toBase64(joinBytes(keyId(sha256, key), signature))}\n`
}

export interface Note {
  text: string
  signatures: readonly { name: string; keyId: Uint8Array; signature: Uint8Array }[]
}

const mostNote = 1_000_000

/** @returns null for what is not a signed note. Signatures are only read here. */
export function readNote(note: string): Note | null {
  if (note.length > mostNote) return null
  const at = note.lastIndexOf('\n\n')
  if (at < 0 || !note.endsWith('\n')) return null
  const lines = note.slice(at + 2, -1).split('\n')
  const signatures = lines.map((line) => {
    const match = new RegExp(`^${dash} ([!-*,-~]{1,200}) ([A-Za-z0-9+/=]{1,1000})$`).exec(line)
    const bytes = match && fromBase64(match[2]!)
    return match && bytes && bytes.length > 4
      ? { name: match[1]!, keyId: bytes.slice(0, 4), signature: bytes.slice(4) }
      : null
  })
  if (signatures.length === 0 || signatures.length > 16 || signatures.includes(null)) return null
  return { text: note.slice(0, at + 1), signatures: signatures.map((one) => one!) }
}

/** The signature that a key made, where there is one. */
export function signatureBy(sha256: Sha256, note: Note, key: NoteKey): Uint8Array | null {
  const id = keyId(sha256, key)
  const own = note.signatures.find((one) => one.name === key.name && sameBytes(one.keyId, id))
  return own?.signature ?? null
}

/** One more event on the chain of those that were (rule 9). @param canonical its canonical JSON */
export function chained(sha256: Sha256, before: Uint8Array, canonical: string): Uint8Array {
  return sha256(joinBytes(Uint8Array.of(5), before, sha256(canonical)))
}

/** Where the chain of events begins (rule 9). */
export const chainBegin = new Uint8Array(32)
