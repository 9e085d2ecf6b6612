import { Router } from 'express'
import { routes } from '@spoor/contract'
import { requestedScopes } from '../scope/request.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind } from '../http/bind.ts'
import { today } from './today.ts'

export function todayRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readToday, async ({ query, person }) => {
    const { from, until } = query
    if (from !== undefined && until !== undefined && Date.parse(from) >= Date.parse(until))
      throw new Problem('bad-request', 'The spell ends before it begins. Choose a later end or an earlier beginning.')
    const [, ...limits] = await requestedScopes(db, '', person)
    return await today(db, person, limits, { from, until, zone: query.zone })
  })
  return router
}
