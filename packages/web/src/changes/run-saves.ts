import { routes, type ProblemBody, type RunLine, type Save } from '@spoor/contract'
import { shallowRef, watch, type Ref } from 'vue'
import { call, problemOf } from '../api/client.ts'

/** What has been read of the saves of a run that stands in one line. */
export interface RunSaves {
  saves: Save[]
  next: string | null
  loading: boolean
  problem: ProblemBody | null
}

const pageSize = '200'

/**
 * The saves of runs that stand in one line: of those that are opened a page at a time, of those that are picked all.
 * Whatever was read is read anew when `version` or the scope changes.
 */
export function useRunSaves(scope: Ref<string>, version: Ref<number>) {
  const read = shallowRef(new Map<number, RunSaves>())
  const opened = shallowRef(new Set<number>())
  let asked = new AbortController()

  const put = (runId: number, saves: RunSaves) => (read.value = new Map(read.value).set(runId, saves))
  const of = (runId: number): RunSaves =>
    read.value.get(runId) ?? { saves: [], next: null, loading: false, problem: null }

  async function page(runId: number): Promise<void> {
    const { signal } = asked
    const before = of(runId)
    put(runId, { ...before, loading: true, problem: null })
    try {
      const after = before.next === null ? {} : { after: before.next }
      const query = { scope: scope.value, run: String(runId), limit: pageSize, ...after } as never
      const found = await call(routes.listSaves, { query, signal })
      put(runId, { saves: [...before.saves, ...found.saves], next: found.next, loading: false, problem: null })
    } catch (error) {
      if (!signal.aborted) put(runId, { ...before, loading: false, problem: problemOf(error) })
    }
  }

  async function toggle({ runId }: RunLine): Promise<void> {
    const next = new Set(opened.value)
    if (!next.delete(runId)) next.add(runId)
    opened.value = next
    if (next.has(runId) && of(runId).saves.length === 0) await page(runId)
  }

  /** All saves of a run, read to the end; null when that was stopped or failed. */
  async function whole({ runId }: RunLine): Promise<Save[] | null> {
    const { signal } = asked
    do {
      await page(runId)
      if (signal.aborted || of(runId).problem) return null
    } while (of(runId).next !== null)
    return of(runId).saves
  }

  /** Breaks off what is being read. */
  function stop(): void {
    asked.abort()
    asked = new AbortController()
    read.value = new Map([...read.value].map(([runId, one]) => [runId, { ...one, loading: false }]))
  }

  watch([scope, version], () => {
    stop()
    read.value = new Map()
    for (const runId of opened.value) void page(runId)
  })
  watch(scope, () => (opened.value = new Set()))
  return {
    of,
    isOpen: (runId: number) => opened.value.has(runId),
    isWhole: (runId: number) => of(runId).saves.length > 0 && of(runId).next === null,
    toggle,
    whole,
    stop,
    more: async (runId: number) => {
      if (of(runId).next !== null && !of(runId).loading) await page(runId)
    },
  }
}
