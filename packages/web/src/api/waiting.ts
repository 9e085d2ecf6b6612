import type { ProblemBody } from '@spoor/contract'
import { shallowRef } from 'vue'

/** A call that waits until something is read, with the last that was said of it. */
export interface Wait {
  problem: ProblemBody
  /** Whether somebody does not want to wait any longer. */
  stopped: boolean
}

/** All calls that wait, the first first. */
export const waits = shallowRef<readonly Wait[]>([])

const againAfterMs = 300

/** Waits a moment before a call is made again. @throws DOMException when the call was aborted meanwhile */
export async function waitOn(before: Wait | null, problem: ProblemBody, signal?: AbortSignal): Promise<Wait> {
  const wait = before ?? { problem, stopped: false }
  wait.problem = problem
  waits.value = [...waits.value.filter((one) => one !== wait), wait]
  await new Promise((resolve) => setTimeout(resolve, againAfterMs))
  signal?.throwIfAborted()
  return wait
}

export function endWait(wait: Wait): void {
  waits.value = waits.value.filter((one) => one !== wait)
}
