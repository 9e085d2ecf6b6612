import { Router } from 'express'
import { routes } from '@spoor/contract'
import { reachFor } from '../changes/scope-request.ts'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { storyOf } from './story.ts'

/** Records as the trail knows them. */
export function recordsRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readStoryOfRecord, async ({ query, person }) =>
    storyOf(db, query.typeId, query.key, await reachFor(db, person), Date.now()),
  )
  return router
}
