const minute = 60_000
const longestWaitMs = 6 * 60 * minute
/** What was not taken for so long is given up. */
const givenUpAfterMs = 3 * 24 * 60 * minute
/** An answer of a mail server from here on says that it will never be taken. */
const refused = 500

export interface NotTaken {
  /** How often it was tried, this time included. */
  tries: number
  /** Since when it is to be sent, epoch milliseconds. */
  sinceMs: number
  nowMs: number
  forGood: boolean
}

/** What becomes of a message that was not taken: it is tried again after a wait that grows, for three days. */
export function afterwards({ tries, sinceMs, nowMs, forGood }: NotTaken): { state: 'given up' } | { due_at: string } {
  if (forGood || nowMs - sinceMs > givenUpAfterMs) return { state: 'given up' }
  const waitMs = Math.min(longestWaitMs, minute * 2 ** Math.min(tries - 1, 12))
  return { due_at: new Date(nowMs + waitMs).toISOString() }
}

/** Whether a mail server said that it will never take a message. */
export const isRefused = (error: unknown): boolean =>
  ((error as { responseCode?: number }).responseCode ?? 0) >= refused
