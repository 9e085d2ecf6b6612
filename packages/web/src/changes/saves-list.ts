import { routes, type ProblemBody, type Save, type Summary } from '@spoor/contract'
import { computed, ref, watch, type Ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { usePulse } from '../frame/pulse.ts'

const pageSize = 100

/**
 * The saves of a scope, page by page, with their counts. Saves that arrive later are only counted (`fresh`) until
 * they are taken in, so that nothing moves under the eye; `calm` says when they may come in by themselves.
 */
export function useSavesList(scope: Ref<string>, calm: () => boolean) {
  const saves = ref<Save[]>([])
  const next = ref<string | null>(null)
  const loading = ref(true)
  const problem = ref<ProblemBody | null>(null)
  const summary = ref<Summary | null>(null)
  const newest = ref<Summary | null>(null)
  const pulse = usePulse()
  let asked: AbortController | undefined

  async function load(): Promise<void> {
    asked?.abort()
    const mine = (asked = new AbortController())
    loading.value = true
    try {
      const query = { scope: scope.value }
      const [counts, page] = await Promise.all([
        call(routes.summariseChanges, { query, signal: mine.signal }),
        call(routes.listSaves, { query: { ...query, limit: String(pageSize) }, signal: mine.signal }),
      ])
      saves.value = page.saves
      next.value = page.next
      summary.value = newest.value = counts
      problem.value = null
    } catch (error) {
      if (mine.signal.aborted) return
      problem.value = problemOf(error)
      saves.value = []
      next.value = null
      summary.value = newest.value = null
    } finally {
      if (asked === mine) loading.value = false
    }
  }

  async function more(): Promise<void> {
    if (next.value === null || loading.value) return
    const mine = asked
    loading.value = true
    try {
      const page = await call(routes.listSaves, {
        query: { scope: scope.value, limit: String(pageSize), after: next.value },
      })
      if (asked !== mine) return
      saves.value = [...saves.value, ...page.saves]
      next.value = page.next
    } catch (error) {
      problem.value = problemOf(error)
    } finally {
      if (asked === mine) loading.value = false
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

  watch(scope, load, { immediate: true })
  watch(
    () => pulse.pulse?.latestSave,
    async (_, before) => {
      if (before === undefined) return
      await look()
      if (fresh.value > 0 && calm()) await load()
    },
  )

  const fresh = computed(() => Math.max(0, (newest.value?.saves ?? 0) - (summary.value?.saves ?? 0)))
  return { saves, next, loading, problem, summary, fresh, more, takeIn: load }
}
