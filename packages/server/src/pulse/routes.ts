import { Router } from 'express'
import { routes } from '@spoor/contract'
import { bind } from '../http/bind.ts'
import { stillIn, type Identifying } from '../http/session.ts'
import type { PulseSource } from './pulse.ts'

/** So often it is asked whether whoever follows may still do so. */
const askEveryMs = 2000

export function pulseRouter(pulse: PulseSource, identifying: Identifying): Router {
  const router = Router()
  bind(router, routes.followPulse, async ({ request, response, person }) => {
    response.set({ 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' })
    response.flushHeaders()
    const end = pulse.follow((state) => response.write(`data: ${JSON.stringify(state)}\n\n`))
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
