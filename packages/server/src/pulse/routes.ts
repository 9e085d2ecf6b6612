import { Router } from 'express'
import { routes, type Pulse } from '@spoor/contract'
import { reachOf } from '../ledger/reach.ts'
import { bind } from '../http/bind.ts'
import { stillIn, type Identifying } from '../http/session.ts'
import type { PulseSource } from './pulse.ts'

/** What is known to whoever sees a part only: that the ledger is kept, and not how much goes into it from where. */
const withoutCounts = ({ sealedAt }: Pulse): Pulse => ({
  sources: [],
  latestSave: null,
  sealedAt,
  alarms: 0,
  mismatches: 0,
  working: 0,
})

/** So often it is asked whether whoever follows may still do so. */
const askEveryMs = 2000

export function pulseRouter(pulse: PulseSource, identifying: Identifying): Router {
  const router = Router()
  bind(router, routes.followPulse, async ({ request, response, person }) => {
    response.set({ 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' })
    response.flushHeaders()
    const shown = reachOf(person) === null ? (state: Pulse) => state : withoutCounts
    const end = pulse.follow((state) => response.write(`data: ${JSON.stringify(shown(state))}\n\n`))
    const asking = setInterval(() => {
      stillIn(request, person.role, identifying).then(
        (still) => (still ? undefined : response.end()),
        // A database that is away for a moment ends nobody's session.
        () => undefined,
      )
    }, askEveryMs)
    request.on('close', () => {
      clearInterval(asking)
      end()
    })
  })
  return router
}
