import { parseScope, scopeEntries, type ParsedScope, type Scope } from '@spoor/core'
import { computed, type ComputedRef } from 'vue'
import { useRoute, useRouter, type LocationQueryRaw } from 'vue-router'

/** Parameters of a link that belong to the view and not to the scope. */
const viewParameters = ['save']

export interface UrlScope {
  parsed: ComputedRef<ParsedScope>
  /** The scope as the API takes it; what was not understood stays in, so that the server refuses it too. */
  text: ComputedRef<string>
  set(scope: Scope): void
}

/** The scope lives in the link: reading and writing it is reading and writing the address. */
export function useUrlScope(): UrlScope {
  const route = useRoute()
  const router = useRouter()
  const entries = computed(() =>
    Object.entries(route.query)
      .filter(([name]) => !viewParameters.includes(name))
      .flatMap(([name, value]) => (Array.isArray(value) ? value : [value]).map((one) => [name, one ?? ''] as const)),
  )
  return {
    parsed: computed(() => parseScope(entries.value)),
    text: computed(() => new URLSearchParams(entries.value.map(([name, value]) => [name, value])).toString()),
    set(scope) {
      const query: LocationQueryRaw = {}
      for (const name of viewParameters) if (route.query[name]) query[name] = route.query[name]
      for (const [name, value] of scopeEntries(scope)) {
        const before = query[name]
        query[name] = before === undefined ? value : [...(Array.isArray(before) ? before : [before]), value]
      }
      void router.push({ query })
    },
  }
}
