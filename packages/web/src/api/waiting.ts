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

/** Says that a call waits; or, of one that does already, what was said of it last. */
export function waitFor(before: Wait | null, problem: ProblemBody): Wait {
  const wait = before ?? { problem, stopped: false }
  wait.problem = problem
  waits.value = before === null ? [...waits.value, wait] : [...waits.value]
  return wait
}

/** The time until a call is made again. @throws DOMException when it was aborted meanwhile */
export async function untilAgain(signal?: AbortSignal): Promise<void> {
  await new Promise((resolve) => setTimeout(resolve, againAfterMs))
  signal?.throwIfAborted()
}

export function endWait(wait: Wait): void {
  waits.value = waits.value.filter((one) => one !== wait)
}
