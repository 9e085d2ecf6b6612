import { Router } from 'express'
import { isZone, type Scope } from '@spoor/core'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { isLimited, reachIn } from '../ledger/reach.ts'
import { requestedScopes } from '../ledger/scope-request.ts'
import { readFigure } from './over-time.ts'
import { readPivot } from './pivot.ts'
import { readStays } from './stays.ts'

/** What is worked out of a scope: pivots, time in value, figures over time. */
export function figuresRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readPivot, async ({ query: { scope, work, zone }, person }) => {
    demandZone(zone)
    return await readPivot(db, await requestedScopes(db, scope, person), { work, zone }, Date.now())
  })
  bind(router, routes.readFigure, async ({ query: { scope, work, zone }, person }) => {
    demandZone(zone)
    return await readFigure(db, await wholeScopes(db, scope, person), { work, zone }, Date.now())
  })
  bind(router, routes.readStays, async ({ query: { scope, work, zone }, person }) => {
    demandZone(zone)
    return await readStays(db, await wholeScopes(db, scope, person), { work, zone }, Date.now())
  })
  return router
}

/** @throws Problem for whoever sees a part: what all records hold comes from saves of anybody. */
async function wholeScopes(db: Database, scope: string, person: SignedIn): Promise<Scope[]> {
  const scopes = await requestedScopes(db, scope, person)
  if (isLimited(reachIn(scopes)))
    throw new Problem('not-allowed', 'Whoever sees a part of the trail is not told what all records hold or held.')
  return scopes
}

function demandZone(zone: string): void {
  if (!isZone(zone)) throw new Problem('bad-request', `The time zone “${zone}” is not known.`)
}
