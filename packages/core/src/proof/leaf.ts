import type { CapturedValue } from '../value/type.ts'
import { toHex, type Sha256 } from './bytes.ts'
import { canonicalJson } from './canonical.ts'

/** Rules are those of `docs/proof.md`, by number. */

export type Side = 'before' | 'after'

/** One side's own salt, so that one can be shown without the other becoming guessable (rule 2). */
export function sideSalt(sha256: Sha256, saltHex: string, side: Side): string {
  return toHex(sha256(`\u0003${saltHex}${side}`)).slice(0, 32)
}

/** Commits to a value without saying it (rule 3). @param saltHex the side's salt, 32 hexadecimal digits */
export function commitment(sha256: Sha256, saltHex: string, value: CapturedValue): string {
  return toHex(sha256(`\u0002${saltHex}${value === null ? 'n' : `t${wellFormed(value)}`}`))
}

export interface Commitments {
  before: string
  after: string
}

export function commitmentsOf(
  sha256: Sha256,
  saltHex: string,
  before: CapturedValue,
  after: CapturedValue,
): Commitments {
  return {
    before: commitment(sha256, sideSalt(sha256, saltHex, 'before'), before),
    after: commitment(sha256, sideSalt(sha256, saltHex, 'after'), after),
  }
}

/** Says of one change whether it is as it was written, without the rest of its save (rule 4): 32 hexadecimal digits. */
export function changeDigest(sha256: Sha256, { before, after }: Commitments): string {
  return toHex(sha256(`\u0004${before}${after}`)).slice(0, 32)
}

/** A save as it is proved: everything that is kept of it, each value as its commitment (rule 5). */
export interface ProvedSave {
  id: string
  at: string
  collectedAt: string
  sourceId: number
  typeId: number
  key: string
  keyBefore: string | null
  label: string
  action: string
  actorId: number
  actorKind: string
  actorName: string
  claimed: boolean
  onBehalfOf: string | null
  channel: string
  run: string | null
  runId: string | null
  reason: string | null
  correctionId: number | null
  login: string
  application: string | null
  address: string | null
  transaction: string
  planVersion: number
  seq: string
  parentTypeId: number | null
  parentKey: string | null
  /** By field number, ascending. */
  changes: readonly ({ fieldId: number } & Commitments)[]
}

/** The canonical form of a save (rule 6). */
export function canonicalSave(save: ProvedSave): string {
  const text = (value: string | null) => (value === null ? null : wellFormed(value))
  return canonicalJson({
    ...save,
    key: wellFormed(save.key),
    keyBefore: text(save.keyBefore),
    label: wellFormed(save.label),
    actorName: wellFormed(save.actorName),
    onBehalfOf: text(save.onBehalfOf),
    channel: wellFormed(save.channel),
    run: text(save.run),
    reason: text(save.reason),
    application: text(save.application),
    parentKey: text(save.parentKey),
    changes: save.changes.map(({ fieldId, before, after }) => ({ fieldId, before, after })),
  })
}

/** The hash of a leaf (RFC 6962, 2.1), over the save's canonical form (rule 7). */
export function leafHash(sha256: Sha256, canonical: string): Uint8Array {
  return sha256(`\u0000${canonical}`)
}

/** PostgreSQL's text has no halves of surrogate pairs; whatever else brings one is written as a database would read it. */
function wellFormed(text: string): string {
  return text.replace(/[\uD800-\uDBFF](?![\uDC00-\uDFFF])|(?<![\uD800-\uDBFF])[\uDC00-\uDFFF]/g, '\uFFFD')
}
