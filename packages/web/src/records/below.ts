import { useQueries, useQuery } from '@tanstack/vue-query'
import { routes, type Save } from '@spoor/contract'
import { groupBy, scopeEntries, valueOfOne, type Scope } from '@spoor/core'
import { computed, ref, watch, type ComputedRef, type Ref } from 'vue'
import type { LocationQueryRaw } from 'vue-router'
import { call } from '../api/client.ts'
import { usePulse } from '../frame/pulse.ts'
import { scopeQuery } from '../scope/query.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { fullTime } from '../value/time.ts'

/** Saves of what belongs or refers to a record, below its own lanes: one row for each type of line and each such field. */
export interface Below {
  id: string
  /** "account lines · 63". */
  title: string
  points: { ms: number; saveId: string; title: string }[]
  /** Undefined until it is opened, or while it is read. */
  saves: readonly Save[] | undefined
  /** The same in Changes. */
  all: LocationQueryRaw
  error: unknown
}

/** So many of the latest are shown. */
const mostBelow = 200

/** The saves of a record's lines, through the keys it had; null where records of its type have none. */
function linesScope(typeId: number, keys: readonly string[], names: NamedVocabulary): Scope | null {
  const types = names.types.filter((type) => type.parentTypeId === typeId).map((type) => type.id)
  if (types.length === 0) return null
  return {
    what: { part: 'what', exclude: false, types, fields: [] },
    record: { part: 'record', exclude: false, lines: true, records: keys.map((key) => ({ typeId, key })) },
  }
}

/** Fields of other records that refer to records of a type, and are not what makes these its lines. */
const referring = (typeId: number, { fields, types }: NamedVocabulary) =>
  fields.filter(
    (field) =>
      field.refersTo === typeId &&
      !field.masked &&
      types.some(({ id, parentTypeId }) => id === field.typeId && parentTypeId !== typeId),
  )
type Referring = ReturnType<typeof referring>[number]

/** The saves of records that referred to a record when they were made. */
function referringScope(field: Referring, values: readonly string[]): Scope {
  return {
    what: { part: 'what', exclude: false, types: [field.typeId], fields: [] },
    holds: { part: 'holds', exclude: false, tests: [{ fieldId: field.id, now: false, values }] },
  }
}

const pointsOf = (saves: readonly Save[]) =>
  saves.map(({ id, at, label, action }) => ({
    ms: Date.parse(at),
    saveId: id,
    title: `${label} ${action === 'change' ? 'changed' : `${action}d`}, ${fullTime(at)}`,
  }))
const countedOf = (saves: readonly Save[], more: boolean) => `${more ? 'the latest ' : ''}${saves.length}`

/** @param more whether there are older ones */
function linesBelow(scope: Scope, saves: readonly Save[], more: boolean, names: NamedVocabulary): Below[] {
  return [...groupBy(saves, (save) => save.typeId)].map(([typeId, own]) => ({
    id: `lines ${typeId}`,
    title: `${names.type(typeId) ?? `record type ${typeId}`} · ${countedOf(own, more)}`,
    saves: own,
    points: pointsOf(own),
    all: scopeQuery({ ...scope, what: { part: 'what', exclude: false, types: [typeId], fields: [] } }),
    error: null,
  }))
}

const scopeText = (scope: Scope) => new URLSearchParams(scopeEntries(scope)).toString()
const readSaves = (scope: string) => call(routes.listSaves, { query: { scope, limit: String(mostBelow) } })

/**
 * Saves of a record's lines, which are read in its trail, and of records that refer to it, which are read once they are opened.
 * @param keys that it has and had; undefined while nobody knows
 * @param partial whether a part of its trail is seen; what refers to it is then not told
 */
export function useBelow(
  typeId: Ref<number>,
  keys: Ref<readonly string[] | undefined>,
  names: Ref<NamedVocabulary>,
  partial: Ref<boolean>,
): { below: ComputedRef<Below[]>; open(id: string): void } {
  const pulse = usePulse()
  const latest = computed(() => pulse.pulse?.latestSave)
  const scope = computed(() => (keys.value ? linesScope(typeId.value, keys.value, names.value) : null))
  const text = computed(() => scopeText(scope.value ?? {}))
  const { data } = useQuery({
    queryKey: ['saves-of-lines', text, latest],
    queryFn: () => readSaves(text.value),
    enabled: computed(() => scope.value !== null),
    placeholderData: (before, query) => (query?.queryKey[1] === text.value ? before : undefined),
  })
  const lines = computed(() =>
    scope.value && data.value ? linesBelow(scope.value, data.value.saves, data.value.next !== null, names.value) : [],
  )

  const opened = ref(new Set<string>())
  watch([typeId, () => keys.value?.[0]], () => (opened.value = new Set()))
  const fields = computed(() => {
    // A reference has one value, so that records with keys of more columns are referred to by none.
    const values = (keys.value ?? []).flatMap((key) => valueOfOne(key) ?? [])
    return values.length === 0 || partial.value
      ? []
      : referring(typeId.value, names.value).map((field) => ({
          id: `refers ${field.id}`,
          title: `${names.value.type(field.typeId) ?? 'records'} by ${field.name}`,
          scope: referringScope(field, values),
        }))
  })
  const reading = computed(() => fields.value.filter(({ id }) => opened.value.has(id)))
  const read = useQueries({
    queries: computed(() =>
      reading.value.map((one) => ({
        queryKey: ['saves-referring', scopeText(one.scope), latest.value],
        queryFn: () => readSaves(scopeText(one.scope)),
        retry: false,
        placeholderData: <T>(before: T | undefined) => before,
      })),
    ),
  })
  const referred = computed(() =>
    fields.value.map(({ id, title, scope: own }): Below => {
      const at = reading.value.findIndex((one) => one.id === id)
      const found = at < 0 ? undefined : read.value[at]?.data
      const all = scopeQuery(own)
      if (!found) return { id, title, points: [], saves: undefined, all, error: read.value[at]?.error ?? null }
      return {
        id,
        title: `${title} · ${countedOf(found.saves, found.next !== null)}`,
        points: pointsOf(found.saves),
        saves: found.saves,
        all,
        error: null,
      }
    }),
  )
  return {
    below: computed(() => [...lines.value, ...referred.value]),
    open: (id) => (opened.value = new Set([...opened.value, id])),
  }
}
