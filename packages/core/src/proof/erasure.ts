import type { Sha256Hex } from './bytes.ts'

/** A change whose values were erased, with the commitments that stay of them; null for one from before sealing. */
export interface ErasedChange {
  saveId: string
  fieldId: number
  before: string | null
  after: string | null
}

/** A found value that was erased, with its commitment. */
export interface ErasedFound {
  taking: number
  place: string
  fieldId: number
  value: string
}

/** What an erasure is bound by to its event, which is sealed (docs/proof.md, rule 12): a digest of what it erased. */
export function erasureList(
  sha256Hex: Sha256Hex,
  changes: readonly ErasedChange[],
  found: readonly ErasedFound[] = [],
): string {
  const lines = [...changes]
    .sort((a, b) => (BigInt(a.saveId) < BigInt(b.saveId) ? -1 : a.saveId === b.saveId ? a.fieldId - b.fieldId : 1))
    .map(({ saveId, fieldId, before, after }) => `${saveId} ${fieldId} ${before ?? '-'} ${after ?? '-'}\n`)
  const values = [...found]
    .sort((a, b) => a.taking - b.taking || Number(a.place) - Number(b.place) || a.fieldId - b.fieldId)
    .map(({ taking, place, fieldId, value }) => `found ${taking} ${place} ${fieldId} ${value}\n`)
  return sha256Hex(`\u0006${lines.join('')}${values.join('')}`)
}

/** The end of the words of an erasure's event. */
export function erasureMark(erasureId: number, list: string): string {
  return `(erasure ${erasureId}, list ${list})`
}
