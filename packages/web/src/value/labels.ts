import type { Reference } from '@spoor/contract'
import type { CapturedValue } from '@spoor/core'

/** What the record is called that a reference field's value points to; undefined where nobody knows. */
export type LabelOf = (fieldId: number, value: CapturedValue) => string | undefined

export function labelsOf(references: readonly Reference[]): LabelOf {
  const labels = new Map(references.map(({ fieldId, value, label }) => [`${fieldId} ${value}`, label]))
  return (fieldId, value) => (value === null ? undefined : labels.get(`${fieldId} ${value}`))
}
