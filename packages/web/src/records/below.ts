import { useQuery } from '@tanstack/vue-query'
import { routes, type Save } from '@spoor/contract'
import { groupBy, scopeEntries, type Scope } from '@spoor/core'
import { computed, type ComputedRef, type Ref } from 'vue'
import { call } from '../api/client.ts'
import { usePulse } from '../frame/pulse.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { fullTime } from '../value/time.ts'

/** Saves of what belongs to a record, below its own lanes: one row for each type of line. */
export interface Below {
  typeId: number
  /** "account lines · 63". */
  title: string
  points: { ms: number; saveId: string; title: string }[]
  saves: readonly Save[]
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

/** @param more whether there are older ones */
function belowRecord(saves: readonly Save[], more: boolean, names: NamedVocabulary): Below[] {
  return [...groupBy(saves, (save) => save.typeId)].map(([typeId, own]) => ({
    typeId,
    title: `${names.type(typeId) ?? `record type ${typeId}`} · ${more ? 'the latest ' : ''}${own.length}`,
    saves: own,
    points: own.map(({ id, at, label, action }) => ({
      ms: Date.parse(at),
      saveId: id,
      title: `${label} ${action === 'change' ? 'changed' : `${action}d`}, ${fullTime(at)}`,
    })),
  }))
}

/** Saves of a record's lines, which are read in its trail. @param keys that it has and had; undefined while nobody knows */
export function useBelow(
  typeId: Ref<number>,
  keys: Ref<readonly string[] | undefined>,
  names: Ref<NamedVocabulary>,
): ComputedRef<Below[]> {
  const pulse = usePulse()
  const scope = computed(() => (keys.value ? linesScope(typeId.value, keys.value, names.value) : null))
  const text = computed(() => new URLSearchParams(scopeEntries(scope.value ?? {})).toString())
  const { data } = useQuery({
    queryKey: ['saves-of-lines', text, computed(() => pulse.pulse?.latestSave)],
    queryFn: () => call(routes.listSaves, { query: { scope: text.value, limit: String(mostBelow) } }),
    enabled: computed(() => scope.value !== null),
    placeholderData: (before, query) => (query?.queryKey[1] === text.value ? before : undefined),
  })
  return computed(() =>
    scope.value && data.value ? belowRecord(data.value.saves, data.value.next !== null, names.value) : [],
  )
}
