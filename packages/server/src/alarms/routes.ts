import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { listAlarms } from './alarms.ts'
import { settle } from './settle.ts'

/** Everything wrong that somebody must deal with. */
export function alarmsRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.listAlarms, ({ query }) => listAlarms(db, { settled: query.settled === '1' }))
  bind(router, routes.settleAlarm, ({ params, body, person }) => settle(db, params.alarmId, person.id, body.why))
  return router
}
