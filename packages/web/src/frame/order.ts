import { mostSorted } from '@spoor/contract'
import { grouped } from '@spoor/core'
import { computed, ref, watch, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** What a list is ordered by. */
export interface Order {
  by: string
  descending: boolean
}

const newestFirst: Order = { by: 'time', descending: true }
/** Texts begin at their beginning; times and amounts at the latest and largest. */
const largestFirst = ['time', 'save', 'difference']

/**
 * A list's order, which lives in the link as `sort=who` or `sort=-who`.
 * @param size how much there is to order; negative while nobody knows
 */
export function useOrder(sortable: readonly string[], size: Ref<number>) {
  const route = useRoute()
  const router = useRouter()
  const order = computed<Order>(() => {
    const text = typeof route.query['sort'] === 'string' ? route.query['sort'] : ''
    const by = text.replace(/^-/, '')
    return sortable.includes(by) ? { by, descending: text.startsWith('-') } : newestFirst
  })
  const only = computed(() =>
    size.value > mostSorted
      ? `Only up to ${grouped(mostSorted)} lines can be put in another order than that of time. Narrow the scope to order it otherwise.`
      : '',
  )
  const refused = ref(false)
  watch([only, order], () => (refused.value = false))

  function put({ by, descending }: Order) {
    const { sort: _, ...rest } = route.query
    const usual = by === 'time' && descending
    void router.replace({ query: usual ? rest : { ...rest, sort: `${descending ? '-' : ''}${by}` } })
  }
  return {
    order,
    only,
    /** Somebody wanted an order that does not hold now. */
    refused,
    /** Once the one way, again the other, a third time as it was. */
    press(by: string) {
      const first = largestFirst.includes(by)
      if (order.value.by !== by) put({ by, descending: first })
      else if (order.value.descending === first) put({ by, descending: !first })
      else put(newestFirst)
    },
    reset: () => put(newestFirst),
  }
}
