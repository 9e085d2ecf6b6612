import { Router } from 'express'
import { isZone } from '@spoor/core'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind } from '../http/bind.ts'
import { requestedScopes } from '../ledger/scope-request.ts'
import { readPivot } from './pivot.ts'

/** What is worked out of a scope: pivots, time in value, figures over time. */
export function figuresRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readPivot, async ({ query: { scope, work, zone }, person }) => {
    demandZone(zone)
    return await readPivot(db, await requestedScopes(db, scope, person), { work, zone }, Date.now())
  })
  return router
}

function demandZone(zone: string): void {
  if (!isZone(zone)) throw new Problem('bad-request', `The time zone “${zone}” is not known.`)
}
