import type { Scope } from '@spoor/core'
import type { NamedVocabulary } from '../scope/vocabulary.ts'

type Field = NamedVocabulary['fields'][number]

/** Fields that can be worked with: what is masked, or kept as a fingerprint, has no figures. */
const canBe = (field: Field) => !field.masked && !field.fingerprint

/** Fields to choose from, by the names of their types. */
export function fieldChoices(
  names: NamedVocabulary,
  fits: (field: Field) => boolean,
): { value: number | null; text: string }[] {
  return names.fields
    .filter((field) => canBe(field) && fits(field))
    .map((field) => ({ value: field.id, text: `${field.name} of ${names.type(field.typeId) ?? ''}` }))
    .sort((a, b) => a.text.localeCompare(b.text, 'en'))
}

/** The one field that a scope names, if it fits. */
export function fieldMeant(scope: Scope, names: NamedVocabulary, fits: (field: Field) => boolean): number | null {
  const { what } = scope
  if (!what || what.exclude || what.types.length > 0 || what.fields.length !== 1) return null
  const field = names.fields.find(({ id }) => id === what.fields[0])
  return field && canBe(field) && fits(field) ? field.id : null
}
