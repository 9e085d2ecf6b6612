import type { CapturedValue } from '../value/type.ts'
import type { Sha256Hex } from './bytes.ts'

/** Rules are those of `docs/proof.md`, by number. */

export type Side = 'before' | 'after'

/** Each side's own salt, so that one can be shown without the other becoming guessable (rule 2). */
export function sideSalt(saltHex: string, side: Side): string {
  return side === 'before' ? saltHex.slice(0, saltLength) : saltHex.slice(saltLength)
}
/** Hexadecimal digits of one side's salt: 16 bytes. */
const saltLength = 32

/** Commits to a value without saying it (rule 3). @param saltHex the side's salt, 32 hexadecimal digits */
export function commitment(sha256Hex: Sha256Hex, saltHex: string, value: CapturedValue): string {
  return sha256Hex(`\u0002${saltHex}${value === null ? 'n' : `t${wellFormed(value)}`}`)
}

export interface Commitments {
  before: string
  after: string
}

export function commitmentsOf(
  sha256Hex: Sha256Hex,
  saltHex: string,
  before: CapturedValue,
  after: CapturedValue,
): Commitments {
  return {
    before: commitment(sha256Hex, sideSalt(saltHex, 'before'), before),
    after: commitment(sha256Hex, sideSalt(saltHex, 'after'), after),
  }
}

/**
 * Says of one change whether it is as it was written, and which side is not, without the rest of its save (rule 4): the
 * beginnings of both commitments, 32 hexadecimal digits in all.
 */
export function changeDigest({ before, after }: Commitments): string {
  return before.slice(0, digestSide) + after.slice(0, digestSide)
}
/** Hexadecimal digits of each side. */
const digestSide = 16

/** Which sides of a change its stored digest does not agree with. */
export function sidesAltered(stored: string | null, digest: string): Side[] {
  const same = (from: number, to?: number) => stored?.slice(from, to) === digest.slice(from, to)
  return [...(same(0, digestSide) ? [] : ['before' as const]), ...(same(digestSide) ? [] : ['after' as const])]
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

/**
 * The canonical form of a save (rule 6): RFC 8785, for which the names only have to be written in their order, since
 * there is nothing in a save but texts, whole numbers, true, false and null.
 */
export function canonicalSave(save: ProvedSave): string {
  const text = (value: string | null) => (value === null ? null : wellFormed(value))
  return JSON.stringify({
    action: save.action,
    actorId: save.actorId,
    actorKind: save.actorKind,
    actorName: wellFormed(save.actorName),
    address: save.address,
    application: text(save.application),
    at: save.at,
    changes: save.changes.map(({ fieldId, before, after }) => ({ after, before, fieldId })),
    channel: wellFormed(save.channel),
    claimed: save.claimed,
    collectedAt: save.collectedAt,
    correctionId: save.correctionId,
    id: save.id,
    key: wellFormed(save.key),
    keyBefore: text(save.keyBefore),
    label: wellFormed(save.label),
    login: wellFormed(save.login),
    onBehalfOf: text(save.onBehalfOf),
    parentKey: text(save.parentKey),
    parentTypeId: save.parentTypeId,
    planVersion: save.planVersion,
    reason: text(save.reason),
    run: text(save.run),
    runId: save.runId,
    seq: save.seq,
    sourceId: save.sourceId,
    transaction: save.transaction,
    typeId: save.typeId,
  })
}

/** What is hashed for a leaf (RFC 6962, 2.1): the save's canonical form behind a zero byte (rule 7). */
export function leafText(canonical: string): string {
  return `\u0000${canonical}`
}

const surrogate = /[\uD800-\uDFFF]/

/** PostgreSQL's text has no halves of surrogate pairs; whatever else brings one is written as a database would read it. */
export function wellFormed(text: string): string {
  if (!surrogate.test(text)) return text
  return text.replace(/[\uD800-\uDBFF](?![\uDC00-\uDFFF])|(?<![\uD800-\uDBFF])[\uDC00-\uDFFF]/g, '\uFFFD')
}
