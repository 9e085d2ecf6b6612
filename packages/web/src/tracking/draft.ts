import { useQuery, useQueryClient } from '@tanstack/vue-query'
import {
  routes,
  type Draft,
  type ProblemBody,
  type SourceMap,
  type TrackedField,
  type TrackedType,
} from '@spoor/contract'
import { isFieldEdit, type KeepOrOff } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'

type Edit = Draft['edits'][number]

const key = ['tracking']

/** The sources with their fields, and the draft of each, staged on the server edit by edit. */
export function useTracking() {
  const cache = useQueryClient()
  const { data, error, isPending, refetch } = useQuery({ queryKey: key, queryFn: () => call(routes.readTracking) })
  const problem = ref<ProblemBody | null>(null)
  const busy = ref(false)
  let queue = Promise.resolve()

  function setDraft(sourceId: number, draft: Draft): void {
    cache.setQueryData<{ sources: SourceMap[] }>(
      key,
      (before) =>
        before && { sources: before.sources.map((source) => (source.id === sourceId ? { ...source, draft } : source)) },
    )
  }

  /** Shows the edit at once and stages it; edits follow one another, each on the revision of the one before. */
  function stage(sourceId: number, change: (source: SourceMap) => Edit[]): void {
    queue = queue.then(async () => {
      const source = cache.getQueryData<{ sources: SourceMap[] }>(key)?.sources.find((one) => one.id === sourceId)
      if (!source) return
      const edits = change(source)
      setDraft(sourceId, { ...source.draft, edits })
      try {
        setDraft(
          sourceId,
          await call(routes.stageEdits, {
            params: { sourceId: String(sourceId) },
            body: { revision: source.draft.revision, edits },
          }),
        )
        problem.value = null
      } catch (caught) {
        problem.value = problemOf(caught)
        await refetch()
      }
    })
  }

  async function putInForce(source: SourceMap, reason: string): Promise<boolean> {
    await queue
    const revision =
      cache.getQueryData<{ sources: SourceMap[] }>(key)?.sources.find((one) => one.id === source.id)?.draft.revision ??
      source.draft.revision
    busy.value = true
    try {
      await call(routes.putInForce, { params: { sourceId: String(source.id) }, body: { revision, reason } })
      problem.value = null
      await Promise.all([refetch(), cache.invalidateQueries({ queryKey: ['vocabulary'] })])
      return true
    } catch (caught) {
      problem.value = problemOf(caught)
      await refetch()
      return false
    } finally {
      busy.value = false
    }
  }

  return {
    sources: computed(() => data.value?.sources ?? []),
    error,
    isPending,
    refetch,
    problem,
    busy,
    stage,
    putInForce,
  }
}

/** How a field is kept once the draft is in force. */
export function stagedKeep(source: SourceMap, field: TrackedField): KeepOrOff {
  return source.draft.edits.filter(isFieldEdit).find((edit) => edit.fieldId === field.id)?.keep ?? field.keep
}

/** The draft's edits with these fields set. */
export function withKeep(
  source: SourceMap,
  type: TrackedType,
  fields: readonly TrackedField[],
  keep: KeepOrOff,
): Edit[] {
  const ids = new Set(fields.map((field) => field.id))
  return [
    ...source.draft.edits.filter((edit) => !isFieldEdit(edit) || !ids.has(edit.fieldId)),
    ...fields.filter((field) => field.keep !== keep).map((field) => ({ typeId: type.id, fieldId: field.id, keep })),
  ]
}
