import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, watch, type Ref } from 'vue'
import { usePrinting } from './printing.ts'

export const rowHeight = 28

/** The rows of a long list that stand on the screen, or on paper all of them. More is read as its end comes near. */
export function useRows<Row>(rows: Ref<readonly Row[]>, scroller: Ref<HTMLElement | null>, more: () => Promise<void>) {
  const virtual = useVirtualizer(
    computed(() => ({
      count: rows.value.length,
      getScrollElement: () => scroller.value,
      estimateSize: () => rowHeight,
      overscan: 12,
    })),
  )
  const printing = usePrinting()
  watch(
    () => virtual.value.getVirtualItems().at(-1)?.index,
    (last) => last !== undefined && last > rows.value.length - 30 && void more(),
  )
  return {
    height: computed(() => virtual.value.getTotalSize()),
    visible: computed(() =>
      printing.value
        ? rows.value.map((row) => ({ start: 0, row }))
        : virtual.value.getVirtualItems().flatMap(({ index, start }) => {
            const row = rows.value[index]
            return row === undefined ? [] : [{ start, row }]
          }),
    ),
    scrollTo: (index: number) => virtual.value.scrollToIndex(index),
  }
}
