import { StandingCondition } from '@spoor/contract'
import * as v from 'valibot'
import { computed } from 'vue'
import { useRoute, useRouter, type LocationQuery } from 'vue-router'
import { fullTime } from '../value/time.ts'

/** What the grid is asked for; it lives in the link. */
export interface GridAsked {
  words: string
  /** An instant, or now. */
  at: string | null
  /** Changes of so many days before that are marked, or those since an instant; null marks nothing. */
  marks: number | string | null
  where: readonly StandingCondition[]
  /** A field's number, negative for the greatest first; null by name. */
  order: number | null
}

/** What is marked where nobody says otherwise, in days. */
export const usualMarks = 7
export const markedDays = [1, 7, 30, 90] as const

const isInstant = (text: string) => /^\d{4}-\d\d-\d\dT[\d:.]+Z$/.test(text) && !Number.isNaN(Date.parse(text))

function readAsked(query: LocationQuery): GridAsked {
  const text = (name: string) => (typeof query[name] === 'string' ? query[name] : '')
  const marks = text('marks')
  return {
    words: text('words').trim(),
    at: isInstant(text('at')) ? text('at') : null,
    marks: marks === 'none' ? null : isInstant(marks) ? marks : /^\d{1,4}$/.test(marks) ? Number(marks) : usualMarks,
    where: readWhere(text('where')),
    order: /^-?\d{1,9}$/.test(text('order')) ? Number(text('order')) : null,
  }
}

function readWhere(text: string): StandingCondition[] {
  try {
    const read = v.safeParse(v.array(StandingCondition), JSON.parse(text))
    return read.success ? read.output : []
  } catch {
    return []
  }
}

function written({ words, at, marks, where, order }: GridAsked): LocationQuery {
  return {
    ...(words === '' ? {} : { words }),
    ...(at === null ? {} : { at }),
    ...(marks === usualMarks ? {} : { marks: marks === null ? 'none' : String(marks) }),
    ...(where.length === 0 ? {} : { where: JSON.stringify(where) }),
    ...(order === null ? {} : { order: String(order) }),
  }
}

export function useGridAsked() {
  const route = useRoute()
  const router = useRouter()
  const asked = computed(() => readAsked(route.query))
  return {
    asked,
    // What is asked for late, by somebody who has gone on, is not put into another page's link.
    ask: (change: Partial<GridAsked>) =>
      route.name === 'standing' && void router.replace({ query: written({ ...asked.value, ...change }) }),
  }
}

/** From when on changes are marked, as an instant. */
export function markedSince({ at, marks }: GridAsked, nowMs: number): string | undefined {
  if (marks === null) return undefined
  if (typeof marks === 'string') return marks
  return new Date((at === null ? nowMs : Date.parse(at)) - marks * 86_400_000).toISOString()
}

export function markWords({ at, marks }: GridAsked): string {
  if (marks === null) return 'nothing'
  if (typeof marks === 'string') return `what changed since ${fullTime(marks)}`
  const days = marks === 1 ? 'day' : `${marks} days`
  return `what changed in the ${at === null ? 'last' : 'preceding'} ${days}`
}

export const conditionWords: Readonly<Record<StandingCondition['is'], string>> = {
  equal: 'is',
  other: 'is not',
  containing: 'contains',
  more: 'is more than',
  less: 'is less than',
  empty: 'is nothing',
  filled: 'is something',
}
export const needsText = (is: StandingCondition['is']) => is !== 'empty' && is !== 'filled'
