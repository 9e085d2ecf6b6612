import * as v from 'valibot'
import { Instant, SaveId } from './common.ts'
import { route } from './route.ts'

/** How the ledger stands, sent whenever it changes and at least every five seconds. */
export const Pulse = v.object({
  sources: v.array(
    v.object({
      id: v.number(),
      name: v.string(),
      /** Age of the oldest captured row not yet in the ledger, in milliseconds; 0 when none waits. */
      behindMs: v.number(),
      waiting: v.number(),
      /** Captured rows taken into the ledger so far; two pulses tell the throughput. */
      taken: v.number(),
      trouble: v.nullable(v.string()),
    }),
  ),
  latestSave: v.nullable(SaveId),
  /** When the ledger was last sealed. */
  sealedAt: v.nullable(Instant),
  /** What is wrong and not settled, and how much of that is about the ledger itself. */
  alarms: v.number(),
  mismatches: v.number(),
  /** Long work that is under way. */
  working: v.number(),
})
export type Pulse = v.InferOutput<typeof Pulse>

export const pulseRoutes = {
  followPulse: route({ method: 'GET', path: '/pulse', needs: 'session', summary: 'Server-sent events, each a Pulse' }),
}
