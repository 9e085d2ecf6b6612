import { useEventListener } from '@vueuse/core'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { isWriting } from '../frame/writing.ts'

/** Which of a list is opened, as the address says: its number, or `new`; Escape closes it. */
export function useOpened(path: string, name: string) {
  const route = useRoute()
  const router = useRouter()
  const asked = computed(() => (typeof route.query[name] === 'string' ? route.query[name] : null))
  const close = () => router.push({ path })
  useEventListener('keydown', (event) => {
    if (event.key === 'Escape' && asked.value !== null && !isWriting(event.target)) void close()
  })
  return { asked, close }
}
