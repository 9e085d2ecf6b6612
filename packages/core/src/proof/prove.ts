import type { CapturedValue } from '../value/type.ts'
import { fromHex, type Sha256, type Sha256Hex } from './bytes.ts'
import { readCheckpoint, readKeyLine, readNote, signatureBy, type Checkpoint } from './checkpoint.ts'
import { commitmentsOf, leafText } from './leaf.ts'
import { provesInclusion } from './merkle.ts'

/** Checking what was handed out, from that alone: by the rules of `docs/proof.md`. */

export interface ProofTools {
  sha256: Sha256
  sha256Hex: Sha256Hex
  /** Ed25519 (RFC 8032). */
  signed(signature: Uint8Array, text: string, publicKey: Uint8Array): boolean
}

export interface ProofStep {
  /** The rule that it follows. */
  rule: string
  words: string
  outcome: 'passed' | 'failed' | 'skipped'
}

/** What opens a change's commitments. @param salt both sides' */
export interface Opening {
  fieldId: number
  salt: string
  before: CapturedValue
  after: CapturedValue
}

export interface HandedSave {
  index: number
  canonical: string
  /** From the leaf to the seal's root, in hexadecimal digits. */
  proof: readonly string[]
  openings: readonly Opening[]
}

export const step = (rule: string, words: string, holds: boolean | null): ProofStep => ({
  rule,
  words,
  outcome: holds === null ? 'skipped' : holds ? 'passed' : 'failed',
})

/** Whether a seal is one, and by whose key. */
export function proveSeal(
  { sha256, signed }: ProofTools,
  sealNote: string,
  keyLine: string | null,
): { steps: ProofStep[]; checkpoint: Checkpoint | null } {
  const note = readNote(sealNote)
  const checkpoint = note && readCheckpoint(note.text)
  const steps = [step('8', 'The seal can be read.', Boolean(checkpoint))]
  if (!note || !checkpoint) return { steps, checkpoint: null }
  const key = keyLine === null ? null : readKeyLine(sha256, keyLine)
  if (keyLine === null) steps.push(step('10', 'There is no key to check the seal’s signature with.', null))
  else if (!key) steps.push(step('10', 'The key is no key.', false))
  else {
    const signature = signatureBy(sha256, note, key)
    const holds = signature !== null && signed(signature, note.text, key.publicKey) && key.name === checkpoint.origin
    steps.push(step('10', 'The seal was signed with the ledger’s key.', holds))
  }
  return { steps, checkpoint }
}

/** Whether the values that are shown of a save are those that it commits to. */
export function proveValues(
  { sha256Hex }: Pick<ProofTools, 'sha256Hex'>,
  { canonical, openings }: Pick<HandedSave, 'canonical' | 'openings'>,
): ProofStep {
  const changes = committed(canonical)
  if (changes === null) return step('6', 'The save can be read.', false)
  const opened = openings.map(({ fieldId, salt, before, after }) => {
    const said = changes.get(fieldId)
    const reckoned = commitmentsOf(sha256Hex, salt, before, after)
    return said?.before === reckoned.before && said.after === reckoned.after
  })
  const closed = changes.size - opened.length
  return step(
    '3',
    `The values shown are those that the save commits to${closed > 0 ? ` (${closed} not shown)` : ''}.`,
    opened.length === 0 && closed > 0 ? null : opened.every(Boolean),
  )
}

/** Whether a save is as it was when it was sealed, and whether the values shown are its own. */
export function proveSave(
  { sha256, sha256Hex }: ProofTools,
  save: HandedSave,
  checkpoint: Checkpoint | null,
): ProofStep[] {
  const values = proveValues({ sha256Hex }, save)
  if (values.rule === '6') return [values]
  const steps = [values]
  if (!checkpoint) return [...steps, step('7', 'There is no seal to check the save’s place with.', null)]
  const [leaf, proof] = [fromHex(sha256Hex(leafText(save.canonical))), save.proof.map(fromHex)]
  const whole = leaf !== null && proof.every((hash) => hash?.length === 32)
  const claim = {
    leaf: leaf!,
    index: save.index,
    size: checkpoint.size,
    root: checkpoint.root,
    proof: proof.map((hash) => hash!),
  }
  return [
    ...steps,
    step(
      '7',
      `The save is leaf ${save.index} of the ${checkpoint.size} that the seal covers.`,
      whole && provesInclusion(sha256, claim),
    ),
  ]
}

/** The commitments of a canonical save by field; null for what is none. */
function committed(canonical: string): Map<number, { before: unknown; after: unknown }> | null {
  try {
    const { changes } = JSON.parse(canonical) as { changes: { fieldId: number; before: unknown; after: unknown }[] }
    return new Map(changes.map((change) => [change.fieldId, change]))
  } catch {
    return null
  }
}
