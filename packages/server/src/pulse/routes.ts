import { Router } from 'express'
import { routes } from '@spoor/contract'
import { bind } from '../http/bind.ts'
import type { PulseSource } from './pulse.ts'

export function pulseRouter(pulse: PulseSource): Router {
  const router = Router()
  bind(router, routes.followPulse, async ({ request, response }) => {
    response.set({ 'content-type': 'text/event-stream', 'cache-control': 'no-store', 'x-accel-buffering': 'no' })
    response.flushHeaders()
    const end = pulse.follow((state) => response.write(`data: ${JSON.stringify(state)}\n\n`))
    request.on('close', end)
  })
  return router
}
