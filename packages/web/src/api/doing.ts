import type { ProblemBody } from '@spoor/contract'
import { ref } from 'vue'
import { problemOf } from './client.ts'

/** Something that somebody asked for: whether it goes on, and what went wrong with the last. */
export function useDoing() {
  const busy = ref(false)
  const problem = ref<ProblemBody | null>(null)
  /** @returns whether it went well; while another goes on nothing is begun */
  async function doing(work: () => Promise<unknown>): Promise<boolean> {
    if (busy.value) return false
    busy.value = true
    try {
      await work()
      problem.value = null
      return true
    } catch (caught) {
      problem.value = problemOf(caught)
      return false
    } finally {
      busy.value = false
    }
  }
  return { busy, problem, doing }
}
