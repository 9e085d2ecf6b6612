import { routes, type ProblemBody, type Summary } from '@spoor/contract'
import { computed, ref, watch, type Ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { usePulse } from '../frame/pulse.ts'

/**
 * How much a scope means. Saves that arrive later are only counted (`fresh`) until they are taken in, so that nothing
 * moves under the eye; `calm` says when they may come in by themselves. `version` rises with each taking in.
 */
export function useSummary(scope: Ref<string>, calm: () => boolean) {
  const summary = ref<Summary | null>(null)
  const newest = ref<Summary | null>(null)
  const problem = ref<ProblemBody | null>(null)
  const version = ref(0)
  /** What is shown was counted for another scope than the one asked for now. */
  const counting = ref(true)
  const pulse = usePulse()
  let asked: AbortController | undefined

  async function load(): Promise<void> {
    asked?.abort()
    const mine = (asked = new AbortController())
    version.value++
    try {
      const counts = await call(routes.summariseChanges, { query: { scope: scope.value }, signal: mine.signal })
      summary.value = newest.value = counts
      problem.value = null
      counting.value = false
    } catch (error) {
      if (mine.signal.aborted) return
      problem.value = problemOf(error)
      summary.value = newest.value = null
      counting.value = false
    }
  }

  async function look(): Promise<void> {
    const mine = asked
    try {
      const counts = await call(routes.summariseChanges, { query: { scope: scope.value } })
      if (asked === mine) newest.value = counts
    } catch (error) {
      // A refused scope is already said above the list; this was only a look for news.
      if (!problem.value) problem.value = problemOf(error)
    }
  }

  const fresh = computed(() => Math.max(0, (newest.value?.saves ?? 0) - (summary.value?.saves ?? 0)))
  watch(scope, () => ((counting.value = true), load()), { immediate: true })
  watch(
    () => pulse.pulse?.latestSave,
    async (_, before) => {
      if (before === undefined) return
      await look()
      if (fresh.value > 0 && calm()) await load()
    },
  )
  return { summary, counting, fresh, problem, version, takeIn: load }
}

export interface Page<T> {
  items: T[]
  next: string | null
}

/** Pages of a reading by keyset, begun anew whenever `key` changes. */
export function usePages<T>(
  key: Ref<string>,
  fetchPage: (after: string | undefined, signal: AbortSignal) => Promise<Page<T>>,
) {
  const items = ref<T[]>([]) as Ref<T[]>
  const next = ref<string | null>(null)
  const loading = ref(true)
  const problem = ref<ProblemBody | null>(null)
  const shown = ref<string | null>(null)
  let asked: AbortController | undefined

  async function fetch(after: string | undefined): Promise<void> {
    if (after === undefined) asked?.abort()
    const mine = after === undefined ? (asked = new AbortController()) : asked!
    loading.value = true
    const wanted = key.value
    try {
      const page = await fetchPage(after, mine.signal)
      if (asked !== mine) return
      items.value = after === undefined ? page.items : [...items.value, ...page.items]
      next.value = page.next
      shown.value = wanted
      problem.value = null
    } catch (error) {
      if (mine.signal.aborted) return
      problem.value = problemOf(error)
      if (after === undefined) items.value = []
      next.value = null
    } finally {
      if (asked === mine) loading.value = false
    }
  }
  watch(key, () => void fetch(undefined), { immediate: true })
  return {
    items,
    next,
    loading,
    /** The items are still those of another question; they may be read, and must not be taken for the answer. */
    stale: computed(() => items.value.length > 0 && shown.value !== key.value),
    problem,
    more: async () => {
      if (next.value !== null && !loading.value) await fetch(next.value)
    },
  }
}
