import { useQuery } from '@tanstack/vue-query'
import { routes, type Vocabulary } from '@spoor/contract'
import { capitalised, type RecordRef, type ScopeNames } from '@spoor/core'
import { computed, ref, type ComputedRef, type Ref } from 'vue'
import { call } from '../api/client.ts'
import { fingerprintOf } from '../value/words.ts'
import { useSession } from '../session/session.ts'

export interface NamedVocabulary extends ScopeNames {
  types: Vocabulary['types']
  fields: Vocabulary['fields']
  actors: Vocabulary['actors']
  channels: Vocabulary['channels']
  units: Vocabulary['units']
  called: Vocabulary['called']
  /** "Tenancy". */
  typeTitle(id: number): string
  fieldName(id: number): string
  /** How its values are read: a type of PostgreSQL, or {@link fingerprintOf}. */
  baseType(fieldId: number): string
  /** Of a field that follows from others, one of those that is among some fields. */
  causeAmong(fieldId: number, among: ReadonlySet<number>): number | undefined
  /** What else the plan says of a field. */
  plan(fieldId: number): Pick<Vocabulary['fields'][number], 'masked' | 'sensitive' | 'reason' | 'derivedFrom'>
}

const refreshMs = 15_000
const unknown: Vocabulary = { types: [], fields: [], actors: [], channels: [], units: [], called: [] }
const nothingSaid = { masked: false, sensitive: false, reason: 'never', derivedFrom: [] as number[] } as const

/** The names there are, as the server last told them. */
export const useVocabularyQuery = () =>
  useQuery({
    queryKey: ['vocabulary'],
    queryFn: () => call(routes.readVocabulary),
    staleTime: refreshMs,
    refetchInterval: refreshMs,
  })

/** Names for scopes and rows; what is not known yet is named by its number. */
export function useVocabulary(
  recordLabels: Ref<Record<string, string>>,
  runLabels: Ref<Record<string, string>> = ref({}),
  storyLabels: Ref<Record<string, string>> = ref({}),
  caseLabels: Ref<Record<string, string>> = ref({}),
): ComputedRef<NamedVocabulary> {
  const session = useSession()
  const { data } = useVocabularyQuery()
  return computed(() => {
    const { types, fields, actors, channels, units, called } = data.value ?? unknown
    const typeById = new Map(types.map((type) => [type.id, type]))
    const fieldById = new Map(fields.map((field) => [field.id, field]))
    const actorById = new Map(actors.map((actor) => [actor.id, actor]))
    const calledBy = new Map(called.map(({ typeId, value, label }) => [`${typeId} ${value}`, label]))
    return {
      types,
      fields,
      actors,
      channels,
      units,
      called,
      held: (fieldId: number, value: string) => calledBy.get(`${fieldById.get(fieldId)?.refersTo} ${value}`),
      ...(session.person?.lookedAt ? { lookedAt: session.person.lookedAt } : {}),
      story: (id: number) => storyLabels.value[String(id)],
      case: (id: number) => caseLabels.value[String(id)],
      run: (id: number) => runLabels.value[String(id)],
      actor: (id: number) => actorById.get(id)?.name,
      type: (id: number) => typeById.get(id)?.plural,
      field: (id: number) => fieldById.get(id),
      record: (ref: RecordRef) => {
        const label = recordLabels.value[`t${ref.typeId}:${ref.key}`]
        return label === undefined ? undefined : capitalised(label)
      },
      typeTitle: (id: number) => capitalised(typeById.get(id)?.name ?? `record type ${id}`),
      fieldName: (id: number) => fieldById.get(id)?.name ?? `field ${id}`,
      plan: (fieldId: number) => fieldById.get(fieldId) ?? nothingSaid,
      causeAmong: (fieldId: number, among: ReadonlySet<number>) =>
        fieldById.get(fieldId)?.derivedFrom.find((id) => among.has(id)),
      baseType: (fieldId: number) => {
        const field = fieldById.get(fieldId)
        return field?.fingerprint ? fingerprintOf : (field?.baseType ?? 'text')
      },
    }
  })
}
