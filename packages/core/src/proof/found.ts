import type { CapturedValue } from '../value/type.ts'
import { counted } from '../words/list.ts'
import { fromHex, type Sha256Hex } from './bytes.ts'
import { commitment, leafText, wellFormed } from './leaf.ts'
import { provesInclusion } from './merkle.ts'
import type { ProofStep, ProofTools } from './prove.ts'

/** What a record held when its fields began to be tracked, as it is proved (docs/proof.md, rule 15). */
export interface FoundRecord {
  taking: number
  /** Its leaf in the tree of the taking. */
  place: number
  sourceId: number
  typeId: number
  planVersion: number
  key: string
  label: string
  parentKey: string | null
  at: string
  /** PostgreSQL's text of the snapshot in which it was read. */
  snapshot: string
  /** By field number, ascending; values are commitments. */
  values: readonly { fieldId: number; value: string }[]
}

/** Each field's own salt, from the record's: one may be shown, or erased, without the others (rule 15). */
export function foundSalt(sha256Hex: Sha256Hex, saltHex: string, fieldId: number): string {
  return halfOf(pairSalt(sha256Hex, saltHex, fieldId), fieldId)
}

/** Two fields' salts are one digest. */
const pairSalt = (sha256Hex: Sha256Hex, saltHex: string, fieldId: number) =>
  sha256Hex(`\u0008${saltHex} ${fieldId >> 1}`)
const halfOf = (pair: string, fieldId: number) => (fieldId & 1 ? pair.slice(saltDigits) : pair.slice(0, saltDigits))

/** The salts of several fields, neighbours at the cost of one. */
export function foundSalts(sha256Hex: Sha256Hex, saltHex: string, fieldIds: readonly number[]): string[] {
  let [met, pair] = [-1, '']
  return fieldIds.map((fieldId) => {
    if (fieldId >> 1 !== met) [met, pair] = [fieldId >> 1, pairSalt(sha256Hex, saltHex, fieldId)]
    return halfOf(pair, fieldId)
  })
}
/** 16 bytes, as the salt of a side of a change. */
const saltDigits = 32

/** The canonical form (RFC 8785) of what was found: texts and whole numbers, so the names only have to stand in their order. */
export function canonicalFound(found: FoundRecord): string {
  return JSON.stringify({
    at: found.at,
    key: wellFormed(found.key),
    label: wellFormed(found.label),
    parentKey: found.parentKey === null ? null : wellFormed(found.parentKey),
    place: found.place,
    planVersion: found.planVersion,
    snapshot: found.snapshot,
    sourceId: found.sourceId,
    taking: found.taking,
    typeId: found.typeId,
    values: found.values.map(({ fieldId, value }) => ({ fieldId, value })),
  })
}

/** The words of the event that binds a taking: its root is in them, and the event is sealed (rule 16). */
export function takingWords({
  taking,
  records,
  whole,
  plural,
  root,
}: {
  taking: number
  records: number
  whole: boolean
  plural: string
  root: string
}): string {
  return `took in as found what ${counted(records, 'record')} of ${plural} held${whole ? '' : ', which is not all of them'} (taking ${taking}, leaves ${records}, root ${root})`
}

/** What {@link takingWords} says. */
export function readTakingWords(words: string): { taking: number; records: number; root: string } | null {
  const [, taking, records, root] = /\(taking (\d+), leaves (\d+), root ([0-9a-f]{64})\)$/.exec(words) ?? []
  return root === undefined ? null : { taking: Number(taking), records: Number(records), root }
}

/** A found record as it is handed out. @param salt a field's own */
export interface HandedFound {
  canonical: string
  proof: readonly string[]
  openings: readonly { fieldId: number; salt: string; value: CapturedValue }[]
  /** The words of the taking's event. */
  words: string
}

/** Whether what was found is as it was when it was taken in, for one record alone; that the event is sealed is another step. */
export function proveFound({ sha256, sha256Hex }: ProofTools, handed: HandedFound): ProofStep[] {
  const step = (rule: string, words: string, holds: boolean): ProofStep => ({
    rule,
    words,
    outcome: holds ? 'passed' : 'failed',
  })
  const found = readFound(handed.canonical)
  if (found === null) return [step('15', 'What was found can be read.', false)]
  const said = new Map(found.values.map(({ fieldId, value }) => [fieldId, value]))
  const opened = handed.openings.every(
    ({ fieldId, salt, value }) => said.get(fieldId) === commitment(sha256Hex, salt, value),
  )
  const bound = readTakingWords(handed.words)
  const [leaf, root] = [fromHex(sha256Hex(leafText(handed.canonical))), bound && fromHex(bound.root)]
  const proof = handed.proof.map(fromHex)
  const whole = leaf !== null && root && proof.every((hash) => hash?.length === 32)
  return [
    step('15', 'The values shown are those that were found.', opened),
    step(
      '16',
      `The record is leaf ${found.place} of what taking ${found.taking} found.`,
      Boolean(whole) &&
        bound!.taking === found.taking &&
        provesInclusion(sha256, {
          leaf: leaf!,
          index: found.place,
          size: bound!.records,
          root: root!,
          proof: proof.map((hash) => hash!),
        }),
    ),
  ]
}

function readFound(canonical: string): FoundRecord | null {
  try {
    const found = JSON.parse(canonical) as FoundRecord
    return Array.isArray(found.values) && Number.isSafeInteger(found.place) ? found : null
  } catch {
    return null
  }
}
