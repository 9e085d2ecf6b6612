import type { Summary } from '@spoor/contract'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { shortTime } from '../value/time.ts'

type Gap = Summary['gaps'][number]

/** Spells in which a field was not captured, in words: "bank account of contractors from 3 Mar 10:00 to 10:20 (…)". */
export function gapWords(gaps: readonly Gap[], names: NamedVocabulary): string {
  return gaps
    .map(({ typeId, fieldId, from, to, because }) => {
      const spell = to === null ? `since ${shortTime(from)}` : `from ${shortTime(from)} to ${shortTime(to)}`
      return `${names.fieldName(fieldId)} of ${names.type(typeId) ?? `record type ${typeId}`} ${spell}${because ? ` (${because})` : ''}`
    })
    .join('; ')
}
