import { Router } from 'express'
import { routes } from '@spoor/contract'
import { reachFor } from '../ledger/scope-request.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { proofsOfFound } from '../found/prove.ts'
import { bind } from '../http/bind.ts'
import { isLimited } from '../ledger/reach.ts'
import type { Sources } from '../sources/registry.ts'
import { presentOf } from './present.ts'
import { storyOf } from './story.ts'

export interface RecordsDeps {
  db: Database
  sources: Sources
}

/** Records as the trail knows them. */
export function recordsRouter({ db, sources }: RecordsDeps): Router {
  const router = Router()
  bind(router, routes.readStoryOfRecord, async ({ query, person }) =>
    storyOf(db, query.typeId, query.key, await reachFor(db, person), Date.now()),
  )
  bind(router, routes.proveFound, async ({ query }) => ({ found: await proofsOfFound(db, query.typeId, query.key) }))
  bind(router, routes.readPresentRecord, async ({ query, person }) => {
    // What is there now comes from saves of anybody.
    if (isLimited(await reachFor(db, person)))
      throw new Problem('not-allowed', 'Whoever sees a part of the trail is not told what records hold now.')
    return await presentOf(db, sources, query.typeId, query.key)
  })
  return router
}
