import { routes, type ProblemBody } from '@spoor/contract'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, problemOf, type CallInput } from '../api/client.ts'

type Wish = NonNullable<CallInput<typeof routes.draftCorrection>['body']>

/** Drafts a correction of what somebody wants set back and goes to its rehearsal. */
export function useRevert() {
  const router = useRouter()
  const busy = ref(false)
  const problem = ref<ProblemBody | null>(null)

  async function draft(body: Wish): Promise<void> {
    if (busy.value) return
    busy.value = true
    problem.value = null
    try {
      const correction = await call(routes.draftCorrection, { body })
      await router.push({ name: 'correction', params: { correctionId: correction.id } })
    } catch (error) {
      problem.value = problemOf(error)
    } finally {
      busy.value = false
    }
  }

  return { draft, busy, problem }
}
