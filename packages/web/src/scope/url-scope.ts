import { parseScope, type ParsedScope, type Scope } from '@spoor/core'
import { computed, type ComputedRef } from 'vue'
import { useRoute, useRouter, type LocationQueryRaw } from 'vue-router'
import { scopeQuery } from './query.ts'

/** Parameters of a link that belong to the view and not to the scope. */
const viewParameters = [
  'save',
  'reading',
  'sort',
  'runs',
  'columns',
  'again',
  'watch',
  'work',
  'act',
  'beside',
] as const

export interface UrlScope {
  parsed: ComputedRef<ParsedScope>
  /** The scope as the API takes it; what was not understood stays in, so that the server refuses it too. */
  text: ComputedRef<string>
  /** `view` changes parameters of the view along with the scope; null takes one away. */
  set(scope: Scope, view?: Partial<Record<(typeof viewParameters)[number], string | null>>): void
}

/** The scope lives in the link: reading and writing it is reading and writing the address. */
export function useUrlScope(): UrlScope {
  const route = useRoute()
  const router = useRouter()
  const entries = computed(() =>
    Object.entries(route.query)
      .filter(([name]) => !(viewParameters as readonly string[]).includes(name))
      .flatMap(([name, value]) => (Array.isArray(value) ? value : [value]).map((one) => [name, one ?? ''] as const)),
  )
  return {
    parsed: computed(() => parseScope(entries.value)),
    text: computed(() => new URLSearchParams(entries.value.map(([name, value]) => [name, value])).toString()),
    set(scope, view = {}) {
      const query: LocationQueryRaw = {}
      for (const name of viewParameters) {
        const kept = view[name] === undefined ? route.query[name] : view[name]
        if (kept) query[name] = kept
      }
      void router.push({ query: { ...query, ...scopeQuery(scope) } })
    },
  }
}
