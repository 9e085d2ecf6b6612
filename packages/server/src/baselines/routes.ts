import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { askToCheck, listBaselines, makeBaseline, readBaseline, signBaseline } from './baselines.ts'
import { compareBaseline } from './compare.ts'

/** Named moments of named sets of records. */
export function baselinesRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.listBaselines, async () => ({ baselines: await listBaselines(db) }))
  bind(router, routes.makeBaseline, ({ body, person }) => makeBaseline(db, body, person))
  bind(router, routes.readBaseline, ({ params }) => readBaseline(db, params.baselineId))
  bind(router, routes.signBaseline, ({ params, body, person }) => signBaseline(db, params.baselineId, body, person))
  bind(router, routes.compareBaseline, ({ params, query }) => compareBaseline(db, params.baselineId, query))
  bind(router, routes.checkBaseline, async ({ params, person }) => ({
    jobId: await askToCheck(db, params.baselineId, person.id),
  }))
  return router
}
