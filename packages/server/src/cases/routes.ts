import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind } from '../http/bind.ts'
import { gatherInCase, listItems, openCase } from './gather.ts'
import { changeCase, closeCase, listCases, openCaseAgain, readCase, removeFromCase, writeInCase } from './store.ts'

/** What is gathered under a question, and what was found. */
export function casesRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.listCases, ({ query }) => listCases(db, query))
  bind(router, routes.openCase, ({ body, person }) => openCase(db, person, body))
  bind(router, routes.readCase, ({ params }) => readCase(db, params.caseId))
  bind(router, routes.listCaseItems, ({ params, query }) => listItems(db, params.caseId, query))
  bind(router, routes.changeCase, ({ params, body, person }) => changeCase(db, person, params.caseId, body))
  bind(router, routes.gatherInCase, ({ params, body, person }) => gatherInCase(db, person, params.caseId, body.things))
  bind(router, routes.removeFromCase, ({ params, body, person }) =>
    removeFromCase(db, person, { ...params, why: body.why }),
  )
  bind(router, routes.writeInCase, ({ params, body, person }) => writeInCase(db, person, params.caseId, body.text))
  bind(router, routes.closeCase, ({ params, body, person }) => closeCase(db, person, params.caseId, body.finding))
  bind(router, routes.openCaseAgain, ({ params, body, person }) => openCaseAgain(db, person, params.caseId, body.why))
  return router
}
