import { routes, type ProblemBody } from '@spoor/contract'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'

/** Drafts a correction from picked changes and goes to its rehearsal. */
export function useRevert() {
  const router = useRouter()
  const busy = ref(false)
  const problem = ref<ProblemBody | null>(null)

  async function draft(changes: { saveId: string; fieldId?: number }[]): Promise<void> {
    busy.value = true
    problem.value = null
    try {
      const correction = await call(routes.draftCorrection, { body: { changes } })
      await router.push({ name: 'correction', params: { correctionId: correction.id } })
    } catch (error) {
      problem.value = problemOf(error)
    } finally {
      busy.value = false
    }
  }

  return { draft, busy, problem }
}
