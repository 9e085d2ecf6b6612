import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import type { Sources } from '../sources/registry.ts'
import { newGuard } from '../tracking/guards.ts'
import { closeGuard, openGuard } from './openings.ts'
import { listGuards, readMet } from './store.ts'
import { answerSoon } from '../work/answering.ts'
import { guardTrials } from './trial.ts'

/** What is refused in the sources. */
export function guardsRouter(deps: { db: Database; sources: Sources }): Router {
  const { db } = deps
  const router = Router()
  bind(router, routes.listGuards, async () => ({ guards: await listGuards(db) }))
  bind(router, routes.newGuard, async ({ params, person }) => ({
    guardId: await newGuard(db, params.typeId, person.id),
  }))
  bind(router, routes.tryGuard, ({ params, body, person }) =>
    answerSoon(db, guardTrials, { typeId: params.typeId, guard: body.guard }, person.id),
  )
  bind(router, routes.readMet, async ({ params }) => ({ met: await readMet(db, params.guardId) }))
  bind(router, routes.openGuard, ({ params, body, person }) =>
    openGuard(deps, person, { guardId: params.guardId, ...body }),
  )
  bind(router, routes.closeGuard, ({ params, person }) => closeGuard(deps, person, params))
  return router
}
