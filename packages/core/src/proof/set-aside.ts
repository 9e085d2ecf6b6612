import type { Sha256Hex } from './bytes.ts'

/** A captured row that could not be understood and was kept whole. */
export interface SetAside {
  sourceId: number
  /** Its number in the outbox. */
  seq: string
  why: string
  content: string
}

/** The words of the event that seals a row set aside (docs/proof.md, rule 13); they hold nothing of the row itself. */
export function setAsideWords(sha256Hex: Sha256Hex, { sourceId, seq, why, content }: SetAside): string {
  return `set captured row ${seq} of source ${sourceId} aside (digest ${sha256Hex(`\u0007${why}\n${content}`)})`
}
