import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { listJobs, stopJob } from './jobs.ts'

/** What is under way, and what became of it. */
export function workRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.listJobs, ({ query, person }) => listJobs(db, person, query.before))
  bind(router, routes.stopJob, ({ params, person }) => stopJob(db, person, params.jobId))
  return router
}
