import { ed25519 } from '@noble/curves/ed25519.js'
import { sha256 } from '@noble/hashes/sha2.js'
import type { Place } from '@spoor/contract'
import {
  commitmentsOf,
  fromHex,
  leafText,
  provesInclusion,
  readCheckpoint,
  readKeyLine,
  readNote,
  signatureBy,
  toHex,
  type Sha256,
  type Sha256Hex,
} from '@spoor/core'

export interface Step {
  /** The rule of docs/proof.md that it follows. */
  rule: string
  words: string
  outcome: 'passed' | 'failed' | 'skipped'
}

const encoder = new TextEncoder()
const hash: Sha256 = (data) => sha256(typeof data === 'string' ? encoder.encode(data) : data)
const hashHex: Sha256Hex = (text) => toHex(hash(text))

interface CanonicalChange {
  fieldId: number
  before: string
  after: string
}

/** Checks a save's place in the ledger from what was handed out alone, without asking the server anything. */
export function prove(place: Place): Step[] {
  const steps: Step[] = []
  const say = (rule: string, words: string, holds: boolean | null) =>
    steps.push({ rule, words, outcome: holds === null ? 'skipped' : holds ? 'passed' : 'failed' })

  const { changes } = JSON.parse(place.canonical) as { changes: CanonicalChange[] }
  const opened = place.openings.map(({ fieldId, salt, before, after }) => {
    const said = changes.find((change) => change.fieldId === fieldId)
    const reckoned = commitmentsOf(hashHex, salt, before, after)
    return said?.before === reckoned.before && said.after === reckoned.after
  })
  const closed = changes.length - opened.length
  say('3', `The values shown are those that the save commits to${closed > 0 ? ` (${closed} kept masked)` : ''}.`, opened.length === 0 ? null : opened.every(Boolean)) // prettier-ignore
  say('7', 'The leaf is that of the save.', hashHex(leafText(place.canonical)) === place.leaf)

  const note = place.seal && readNote(place.seal.note)
  const checkpoint = note && readCheckpoint(note.text)
  if (!place.seal || place.index === null) {
    say('8', 'No seal covers this save yet.', null)
    return steps
  }
  say('8', 'The seal can be read.', Boolean(checkpoint))
  if (!note || !checkpoint) return steps
  const proof = place.proof.map(fromHex)
  const [leaf, known] = [fromHex(place.leaf), proof.every((one) => one !== null)]
  say('RFC 6962', `The leaf is number ${place.index} of the ${checkpoint.size} that the seal covers.`, leaf !== null && known && provesInclusion(hash, { leaf, index: place.index, size: checkpoint.size, root: checkpoint.root, proof: proof.map((one) => one!) })) // prettier-ignore
  const key = place.key === null ? null : readKeyLine(hash, place.key)
  const signature = key && signatureBy(hash, note, key)
  say('10', 'The seal was signed with the ledger’s key.', Boolean(key && signature && signed(signature, note.text, key.publicKey))) // prettier-ignore
  return steps
}

function signed(signature: Uint8Array, text: string, publicKey: Uint8Array): boolean {
  try {
    return ed25519.verify(signature, encoder.encode(text), publicKey)
  } catch {
    // A signature or key of the wrong shape.
    return false
  }
}
