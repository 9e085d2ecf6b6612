import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { carryOut } from './carry-out.ts'
import { askErasure, listErasures, reachOf, readErasure, refuseErasure, withdrawErasure } from './erasure.ts'

export interface ErasureDeps {
  db: Database
  /** Opens Spoor's database as the role that erases. */
  connectEraser(): Database
}

/** Erasing values by law: one person asks, another decides. */
export function erasureRouter({ db, connectEraser }: ErasureDeps): Router {
  const router = Router()
  bind(router, routes.listErasures, async ({ query, person }) => ({
    erasures: await listErasures(db, person, query.save),
  }))
  bind(router, routes.erasureReach, ({ query }) => reachOf(db, query.save, query.field))
  bind(router, routes.askErasure, async ({ body, person }) =>
    readErasure(db, person, await askErasure(db, person, body)),
  )
  bind(router, routes.decideErasure, async ({ params, body, person }) => {
    if (body.decision === 'erase') await carryOut(connectEraser, person, params.erasureId)
    else await refuseErasure(db, person, params.erasureId, body.answer)
    return readErasure(db, person, params.erasureId)
  })
  bind(router, routes.withdrawErasure, async ({ params, person }) => {
    await withdrawErasure(db, person, params.erasureId)
    return readErasure(db, person, params.erasureId)
  })
  return router
}
