import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { workText, type Scope, type Work } from '@spoor/core'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { readerZone } from '../value/time.ts'

/** What every form of working out is given. */
export interface WorkProps<W extends Work> {
  work: W
  scope: Scope
  /** The scope as the API takes it. */
  text: string
  version: number
  names: NamedVocabulary
}

/** What the link asks to be worked out; undefined where it asks for nothing. */
export function useAskedWork() {
  const route = useRoute()
  return computed(() => (typeof route.query['work'] === 'string' ? route.query['work'] : undefined))
}

/**
 * The answer to a work, that before it until it is there.
 * @param work as it is meant @param enabled whether enough is chosen to ask
 */
export function useWorkedOut<W extends Work, A>(
  { props, work, enabled = () => true }: { props: WorkProps<W>; work: () => W; enabled?: () => boolean },
  read: (query: { scope: string; work: string; zone: string }, signal: AbortSignal) => Promise<A>,
) {
  const asked = computed(() => ({ scope: props.text, work: workText(work()), zone: readerZone }))
  const { data, error, isFetching, isPending } = useQuery({
    queryKey: ['worked-out', asked, computed(() => props.version)],
    queryFn: ({ signal }) => read(asked.value, signal),
    enabled: computed(enabled),
    placeholderData: keepPreviousData,
    retry: false,
  })
  return { data, error, isPending, stale: computed(() => isFetching.value && !isPending.value) }
}
