import {
  overriddenWords,
  routes,
  type Correction,
  type CorrectionGroup,
  type CorrectionItem,
  type ProblemBody,
} from '@spoor/contract'
import { counted, grouped } from '@spoor/core'
import { computed, ref, watch, type Ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { becameWords } from './states.ts'

/** A line of the list of values: a group's head, one value, or how many more there are. */
export type Line =
  | { line: 'group'; group: CorrectionGroup }
  | { line: 'item'; group: CorrectionGroup; item: CorrectionItem }
  | { line: 'more'; group: CorrectionGroup; left: number }

interface Read {
  items: CorrectionItem[]
  next: number | null
  /** How many of them stand on the screen. */
  shown: number
}

const shownAtFirst = 4
const shownMore = 200
/** Of more groups the values are fetched when somebody wants them. */
const readAtFirst = 12

/** The values of a correction by groups, those fetched that somebody sees. */
export function useGroups(correction: Ref<Correction>) {
  const read = ref(new Map<string, Read>())
  const problem = ref<ProblemBody | null>(null)
  const fetching = ref(false)
  let asked: AbortController | undefined

  async function fetch(group: string, after: number | null, signal: AbortSignal): Promise<Omit<Read, 'shown'>> {
    return await call(routes.listCorrectionItems, {
      params: { correctionId: String(correction.value.id) },
      query: { group, ...(after === null ? {} : { after: String(after) }) },
      signal,
    })
  }
  async function settle(work: (signal: AbortSignal) => Promise<void>, signal: AbortSignal) {
    fetching.value = true
    try {
      await work(signal)
      problem.value = null
    } catch (error) {
      if (!signal.aborted) problem.value = problemOf(error)
    } finally {
      fetching.value = false
    }
  }
  watch(
    correction,
    async ({ groups }) => {
      asked?.abort()
      const { signal } = (asked = new AbortController())
      const before = read.value
      await settle(async () => {
        const pages = await Promise.all(
          groups.flatMap(({ id }, at) =>
            at < readAtFirst || before.has(id)
              ? [
                  fetch(id, null, signal).then((page): [string, Read] => [
                    id,
                    { ...page, shown: before.get(id)?.shown ?? shownAtFirst },
                  ]),
                ]
              : [],
          ),
        )
        if (!signal.aborted) read.value = new Map(pages)
      }, signal)
    },
    { immediate: true },
  )
  async function more({ id }: CorrectionGroup) {
    const known = read.value.get(id)
    const shown = known ? known.shown + shownMore : shownMore
    if (known && (known.next === null || known.items.length >= shown)) {
      read.value.set(id, { ...known, shown })
      return
    }
    await settle(async (signal) => {
      const page = await fetch(id, known?.next ?? null, signal)
      read.value.set(id, { items: [...(known?.items ?? []), ...page.items], next: page.next, shown })
    }, asked!.signal)
  }
  const lines = computed(() =>
    correction.value.groups.flatMap((group): Line[] => {
      const { items = [], shown = 0 } = read.value.get(group.id) ?? {}
      const here = items.slice(0, shown)
      const left = group.values - here.length
      return [
        { line: 'group', group },
        ...here.map((item): Line => ({ line: 'item', group, item })),
        ...(left > 0 ? [{ line: 'more' as const, group, left }] : []),
      ]
    }),
  )
  return { lines, more, problem, fetching }
}

/** What the values of a group have in common, as its head says it. */
export function groupWords(group: CorrectionGroup, draft: boolean, again = false): string {
  const { act, state, values, records, written, why } = group
  const many = grouped(values)
  if (!draft && why === overriddenWords) return `${many} not as asked`
  if (!draft) return written > 0 ? wroteWords(group, again) : `${many} ${becameWords(state)}`
  const is = values === 1 ? 'is' : 'are'
  switch (state) {
    case 'clear':
      if (act === 'recreate')
        return `${counted(records, 'record')} ${records === 1 ? 'comes' : 'come'} ${again ? 'to be here too' : 'back'}`
      if (act === 'remove') return `${counted(records, 'record')} ${records === 1 ? 'goes' : 'go'}`
      return `${many} ${is} clear`
    case 'changed-since':
      return act === 'recreate' ? `${many} ${is} there again, and not the same` : `${many} changed since`
    case 'already-so':
      if (act === 'remove') return `${counted(records, 'record')} ${records === 1 ? 'is' : 'are'} gone already`
      return `${many} ${values === 1 ? 'holds' : 'hold'} it already`
    case 'follows':
      return `${many} ${is} worked out by the source`
    case 'blocked':
      return `${many} ${is} blocked`
  }
}

function wroteWords({ act, records, values, written }: CorrectionGroup, again: boolean): string {
  const wrote = written === values ? counted(records, 'record') : counted(written, 'value')
  if (act === 'recreate') return `${wrote} made ${again ? 'here too' : 'anew'}`
  if (act === 'remove') return `${wrote} removed`
  return `${grouped(written)} ${again ? 'made again' : 'set back'}`
}

/** Why that is, in words. */
export function groupReason({ act, state, why, since }: CorrectionGroup, draft: boolean, again = false): string {
  switch (state) {
    case 'clear':
      if (!draft) return why ?? ''
      if (again) return act === 'recreate' ? 'under the same key' : 'as it was there before'
      if (act === 'recreate') return 'as last held, under the key it had'
      return act === 'remove' ? 'as it was made' : 'still what was found'
    case 'changed-since':
      if (!since) return 'by somebody whose save has not been collected'
      return since.reason === null ? `by ${since.by}, without a reason` : `by ${since.by}: “${since.reason}”`
    case 'already-so':
      return 'nothing to write'
    case 'follows':
      return 'foretold, and compared; never written'
    case 'blocked':
      return why ?? ''
  }
}

/** What is chosen for a value or a group; null where it is one thing for some and another for others. */
export type Shown = 'set back' | 'merge' | 'leave'

export const choiceOfGroup = ({ chosen, values, merges }: CorrectionGroup): Shown | null => {
  if (chosen === 0) return 'leave'
  if (merges === chosen) return 'merge'
  return chosen === values && merges === 0 ? 'set back' : null
}

export const choiceOfItem = ({ state, choice }: CorrectionItem): Shown => {
  if (choice === 'merge') return 'merge'
  return (state === 'clear' ? choice !== 'leave' : choice === 'overwrite') ? 'set back' : 'leave'
}
