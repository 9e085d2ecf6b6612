import { useEventListener } from '@vueuse/core'
import { ref, type Ref } from 'vue'

/** Whether the page is being put on paper: a list then stands whole, as far as it was read, and not only where it is scrolled to. */
export function usePrinting(): Ref<boolean> {
  const printing = ref(false)
  useEventListener('beforeprint', () => (printing.value = true))
  useEventListener('afterprint', () => (printing.value = false))
  return printing
}
