import { useQuery, useQueryClient } from '@tanstack/vue-query'
import {
  routes,
  type Draft,
  type GuardBody,
  type Installation,
  type ProblemBody,
  type SourceMap,
  type TrackedField,
  type TrackedType,
} from '@spoor/contract'
import {
  isFieldEdit,
  isGuardEdit,
  isPlanRuleEdit,
  isRuleEdit,
  type FieldEdit,
  type Guard,
  type KeepOrOff,
  type PlanRuleEdit,
} from '@spoor/core'
import { useLocalStorage } from '@vueuse/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'

export type Edit = Draft['edits'][number]
/** What is wished of some fields; the rest stays as it is. */
export type FieldWish = Omit<FieldEdit, 'typeId' | 'fieldId'>

const key = ['tracking']
const lookAtProgressMs = 300

/** The sources with their fields, and the draft of each, staged on the server edit by edit. */
export function useTracking() {
  const cache = useQueryClient()
  const { data, error, isPending, refetch } = useQuery({ queryKey: key, queryFn: () => call(routes.readTracking) })
  const problem = ref<ProblemBody | null>(null)
  const busy = ref(false)
  const progress = ref<Installation | null>(null)
  const chosen = useLocalStorage<number>('spoor.tracking.source', 0)
  let queue = Promise.resolve()

  function setDraft(sourceId: number, draft: Draft): void {
    cache.setQueryData<{ sources: SourceMap[] }>(
      key,
      (before) =>
        before && { sources: before.sources.map((source) => (source.id === sourceId ? { ...source, draft } : source)) },
    )
  }

  const cached = (sourceId: number) =>
    cache.getQueryData<{ sources: SourceMap[] }>(key)?.sources.find((one) => one.id === sourceId)

  /** Shows the edit at once and stages it; edits follow one another, each on the revision of the one before. */
  function stage(sourceId: number, change: (source: SourceMap) => Edit[], lockWords: string[] = []): void {
    queue = queue.then(async () => {
      const source = cached(sourceId)
      if (!source) return
      const edits = change(source)
      setDraft(sourceId, { ...source.draft, edits })
      try {
        const body = { revision: source.draft.revision, edits, lockWords }
        setDraft(sourceId, await call(routes.stageEdits, { params: { sourceId: String(sourceId) }, body }))
        problem.value = null
      } catch (caught) {
        problem.value = problemOf(caught)
        await refetch()
      }
    })
  }

  /** Waits for what is being staged, then does something with the draft's revision as it is. */
  async function act(source: SourceMap, work: (revision: number) => Promise<unknown>): Promise<boolean> {
    await queue
    busy.value = true
    try {
      await work(cached(source.id)?.draft.revision ?? source.draft.revision)
      problem.value = null
      return true
    } catch (caught) {
      problem.value = problemOf(caught)
      return false
    } finally {
      busy.value = false
      progress.value = null
      await Promise.all([refetch(), cache.invalidateQueries({ queryKey: ['vocabulary'] })])
    }
  }

  const paramsOf = (source: SourceMap) => ({ sourceId: String(source.id) })

  async function putInForce(source: SourceMap, reason: string): Promise<boolean> {
    const params = paramsOf(source)
    const timer = setInterval(() => {
      call(routes.readInstallation, { params }).then(
        (now) => busy.value && (progress.value = now),
        () => undefined, // The act itself says what is wrong.
      )
    }, lookAtProgressMs)
    try {
      return await act(source, (revision) => call(routes.putInForce, { params, body: { revision, reason } }))
    } finally {
      clearInterval(timer)
    }
  }

  return {
    sources: computed(() => data.value?.sources ?? []),
    source: computed(() => data.value?.sources.find((one) => one.id === chosen.value) ?? data.value?.sources[0]),
    choose: (sourceId: number) => (chosen.value = sourceId),
    error,
    isPending,
    refetch,
    problem,
    busy,
    progress,
    /** Takes the shown problem away. */
    forget: () => (problem.value = null),
    stage,
    putInForce,
    propose: (source: SourceMap, reason: string) =>
      act(source, (revision) => call(routes.proposeDraft, { params: paramsOf(source), body: { revision, reason } })),
    sendBack: (source: SourceMap, why: string) =>
      act(source, (revision) => call(routes.sendDraftBack, { params: paramsOf(source), body: { revision, why } })),
    stop: (source: SourceMap) => call(routes.stopInstallation, { params: paramsOf(source) }),
  }
}

/** A field as it will be once the draft is in force. */
export function stagedField(source: SourceMap, field: TrackedField): TrackedField {
  const edit = source.draft.edits.filter(isFieldEdit).find((one) => one.fieldId === field.id)
  if (!edit) return field
  const keep: KeepOrOff = edit.keep ?? field.keep
  if (keep === 'off')
    return { ...field, keep, masked: false, sensitive: false, reason: 'never', derivedFrom: [], lock: null }
  return {
    ...field,
    keep,
    masked: edit.masked ?? field.masked,
    sensitive: edit.sensitive ?? field.sensitive,
    reason: edit.reason ?? field.reason,
    derivedFrom: [...(edit.derivedFrom ?? field.derivedFrom)],
    lock: edit.lock === undefined ? field.lock : edit.lock,
  }
}

/** Field edits by field, so that thousands of tiles need not search for theirs. */
export function stagedIds(source: SourceMap): ReadonlySet<number> {
  return new Set(source.draft.edits.filter(isFieldEdit).map((edit) => edit.fieldId))
}

/** The draft's edits with a wish added for some fields of one type. */
export function withWish(
  edits: readonly Edit[],
  typeId: number,
  fields: readonly TrackedField[],
  wish: FieldWish,
): Edit[] {
  const ids = new Set(fields.map((field) => field.id))
  const before = new Map(edits.filter(isFieldEdit).map((edit) => [edit.fieldId, edit]))
  const wished = fields.map((field): Edit => {
    if (wish.keep === 'off') return { typeId, fieldId: field.id, keep: 'off' }
    return { ...(before.get(field.id) as object | undefined), typeId, fieldId: field.id, ...wish } as Edit
  })
  return [...edits.filter((edit) => !isFieldEdit(edit) || !ids.has(edit.fieldId)), ...wished]
}

type Rules = Pick<TrackedType, 'reason' | 'newColumns' | 'onFailure' | 'asFound'>

/** The rules of a type as the draft has them. */
export function stagedRules(source: SourceMap, type: TrackedType): Rules {
  const edit = source.draft.edits.filter(isRuleEdit).find((one) => one.typeId === type.id)
  const { reason, newColumns, onFailure, asFound } = type
  return {
    reason: edit?.reason ?? reason,
    newColumns: edit?.newColumns ?? newColumns,
    onFailure: edit?.onFailure ?? onFailure,
    asFound: edit?.asFound ?? asFound,
  }
}

export function withRule(edits: readonly Edit[], typeId: number, rule: Partial<Rules>): Edit[] {
  const isIt = (edit: Edit) => isRuleEdit(edit) && edit.typeId === typeId
  return [...edits.filter((edit) => !isIt(edit)), { ...edits.find(isIt), typeId, ...rule }]
}

/** The draft's edits with a guard as it is to be; null takes it away. */
export function withGuard(edits: readonly Edit[], typeId: number, guardId: number, guard: Guard | null): Edit[] {
  const others = edits.filter((edit) => !isGuardEdit(edit) || edit.guardId !== guardId)
  return [...others, { typeId, guardId, guard: guard as GuardBody | null }]
}

/** The rules of the whole plan as they would be with the draft. */
export function stagedPlanRules({ draft, secondPerson, correctionsAbove }: SourceMap): Required<PlanRuleEdit> {
  const staged = draft.edits.find(isPlanRuleEdit)
  return {
    secondPerson: staged?.secondPerson ?? secondPerson,
    correctionsAbove: staged?.correctionsAbove === undefined ? correctionsAbove : staged.correctionsAbove,
  }
}

export function withPlanRules(source: SourceMap, rules: Partial<PlanRuleEdit>): Edit[] {
  const edits = source.draft.edits.filter((edit) => !isPlanRuleEdit(edit))
  return [...edits, { ...stagedPlanRules(source), ...rules }]
}
