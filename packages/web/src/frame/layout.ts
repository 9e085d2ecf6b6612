import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { useDebounceFn } from '@vueuse/core'
import { routes, type Layout, type ListName } from '@spoor/contract'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { call } from '../api/client.ts'

/** A column of a list as it is when nobody arranged it. */
export interface Column<Id extends string> {
  id: Id
  title: string
  /** In pixels. Of one that takes the room there is: the least. */
  width: number
  grows?: boolean
  /** It always stands. */
  fixed?: boolean
  /** Not shown until somebody wants it. */
  hidden?: boolean
}

export interface Arranged<Id extends string> extends Column<Id> {
  hidden: boolean
  /** Somebody chose the width. */
  sized: boolean
}

const keepAfterMs = 500
const least = 40
const narrow = 84

/** What a person wants put over what a list has: columns that are new to them come last, where they stand by themselves. */
function arranged<Id extends string>(columns: readonly Column<Id>[], layout: Layout | undefined): Arranged<Id>[] {
  const kept = (layout ?? []).flatMap(({ id, width, hidden = false }): Arranged<Id>[] => {
    const column = columns.find((one) => one.id === id)
    if (!column) return []
    return [
      {
        ...column,
        hidden: hidden && !column.fixed,
        sized: width !== undefined,
        ...(width === undefined ? {} : { width, grows: false }),
      },
    ]
  })
  const met = new Set(kept.map((column) => column.id))
  return [
    ...kept,
    ...columns.filter((one) => !met.has(one.id)).map((one) => ({ ...one, hidden: one.hidden ?? false, sized: false })),
  ]
}

/** A column that nobody sized gives way in a narrow view before the values do. */
function narrowest({ width, grows, sized }: Arranged<string>): number {
  return grows || sized ? width : Math.min(width, narrow)
}

/** One column for CSS's grid. */
export function track(column: Arranged<string>): string {
  return column.grows ? `minmax(${column.width}px, 1fr)` : `minmax(${narrowest(column)}px, ${column.width}px)`
}

/** The columns of a list as the person who reads has them; kept for them on the server. */
export function useLayout<Id extends string>(
  list: MaybeRefOrGetter<ListName>,
  columns: MaybeRefOrGetter<readonly Column<Id>[]>,
) {
  const cache = useQueryClient()
  const queryKey = ['layouts']
  const { data } = useQuery({ queryKey, queryFn: () => call(routes.readLayouts), staleTime: Infinity })
  const all = computed(() => arranged(toValue(columns), data.value?.layouts[toValue(list)]))
  const shown = computed(() => all.value.filter((column) => !column.hidden))
  const send = useDebounceFn(
    (name: ListName, layout: Layout) => call(routes.keepLayout, { params: { list: name }, body: { columns: layout } }),
    keepAfterMs,
  )

  function put(wanted: readonly Arranged<Id>[]) {
    const layout = wanted.map(({ id, width, hidden, sized }) => ({
      id,
      ...(hidden ? { hidden } : {}),
      ...(sized ? { width } : {}),
    }))
    const name = toValue(list)
    cache.setQueryData(queryKey, { layouts: { ...data.value?.layouts, [name]: layout } })
    void send(name, layout)
  }
  const change = (id: Id, what: Partial<Arranged<Id>>) =>
    put(all.value.map((one) => (one.id === id ? { ...one, ...what } : one)))
  return {
    all,
    shown,
    /** For CSS's grid, and how wide it is at the least. */
    template: computed(() => shown.value.map(track).join(' ')),
    least: computed(() => shown.value.reduce((sum, column) => sum + narrowest(column) + gap, 0)),
    toggle(id: Id) {
      change(id, { hidden: !all.value.find((one) => one.id === id)?.hidden })
    },
    resize(id: Id, width: number) {
      change(id, { width: Math.max(least, Math.round(width)), grows: false, sized: true })
    },
    /** @param by −1 is one place earlier */
    move(id: Id, by: -1 | 1) {
      const order = [...all.value]
      const at = order.findIndex((one) => one.id === id)
      const [column] = order.splice(at, 1)
      if (column) put(order.toSpliced(Math.max(0, at + by), 0, column))
    },
    reset: () => put(toValue(columns).map((one) => ({ ...one, hidden: one.hidden ?? false, sized: false }))),
  }
}
/** Between columns, in pixels. */
export const gap = 10

export type ListLayout<Id extends string> = ReturnType<typeof useLayout<Id>>
