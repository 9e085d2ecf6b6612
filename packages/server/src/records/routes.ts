import { Router } from 'express'
import { routes } from '@spoor/contract'
import { reachFor } from '../ledger/scope-request.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { proofsOfFound } from '../found/prove.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { isLimited } from '../ledger/reach.ts'
import type { Sources } from '../sources/registry.ts'
import { standingPage } from '../standing/list.ts'
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
  bind(router, routes.listStanding, async ({ query, person }) => {
    await demandAll(db, person)
    const { typeId, fields, words, after } = query
    return await standingPage(db, {
      typeId,
      fieldIds: await fieldsOf(db, typeId, fields),
      words,
      after,
      limit: pageSize,
    })
  })
  bind(router, routes.readPresentRecord, async ({ query, person }) => {
    await demandAll(db, person)
    return await presentOf(db, sources, query.typeId, query.key)
  })
  return router
}

const pageSize = 100

/** @throws Problem for whoever sees a part: what is there now comes from saves of anybody. */
async function demandAll(db: Database, person: SignedIn): Promise<void> {
  if (isLimited(await reachFor(db, person)))
    throw new Problem('not-allowed', 'Whoever sees a part of the trail is not told what records hold now.')
}

/** @throws Problem where one is not a field of the type */
async function fieldsOf(db: Database, typeId: number, wanted: readonly number[]): Promise<readonly number[]> {
  const own = await db('spoor.field').where({ type_id: typeId }).whereIn('id', wanted).pluck<number[]>('id')
  const strange = wanted.filter((id) => !own.includes(id))
  if (strange.length > 0)
    throw new Problem('not-found', `There is no field ${strange[0]} of such a record type. Nothing was read.`)
  return wanted
}
