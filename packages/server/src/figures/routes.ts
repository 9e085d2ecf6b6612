import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import type * as v from 'valibot'
import { recordEvent } from '../ledger/events.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { requestedScopes } from '../scope/request.ts'
import { answerSoon } from '../work/answering.ts'
import { readFigure } from './over-time.ts'
import { pivots } from './pivot.ts'
import { readStays } from './stays.ts'
import { workCsv, workSheet, workTable, type WorkTable } from './table.ts'

/** What is worked out of a scope: pivots, time in value, figures over time. */
export function figuresRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.readPivot, async ({ query: { scope, work, zone }, person }) => {
    const scopes = await requestedScopes(db, scope, person)
    return await answerSoon(db, pivots, { scopes, work, zone, personId: person.id }, person.id)
  })
  bind(router, routes.readFigure, async ({ query: { scope, work, zone }, person }) => {
    return await readFigure(
      db,
      await requestedScopes(db, scope, person),
      { work, zone, personId: person.id },
      Date.now(),
    )
  })
  bind(router, routes.readStays, async ({ query: { scope, work, zone }, person }) => {
    return await readStays(
      db,
      await requestedScopes(db, scope, person),
      { work, zone, personId: person.id },
      Date.now(),
    )
  })
  bind(router, routes.exportWork, async ({ query, person, request, response }) => {
    const table = await tableFor(db, query, person, request.ip, 'CSV')
    response.type('text/csv; charset=utf-8').attachment('worked-out.csv')
    response.send(workCsv(table))
  })
  bind(router, routes.exportWorkbook, async ({ query, person, request, response }) => {
    const table = await tableFor(db, query, person, request.ip, 'a workbook')
    response
      .type('application/vnd.openxmlformats-officedocument.spreadsheetml.sheet')
      .attachment('worked-out.xlsx')
      .send(await workSheet(table, query.zone))
  })
  return router
}

type ExportQuery = v.InferOutput<(typeof routes.exportWork)['query']>

async function tableFor(
  db: Database,
  { scope, work, zone }: ExportQuery,
  person: SignedIn,
  address: string | undefined,
  as: string,
): Promise<WorkTable> {
  const scopes = await requestedScopes(db, scope, person)
  const table = await workTable(db, scopes, { work, zone, personId: person.id }, Date.now())
  await recordEvent(db, { kind: 'export', personId: person.id, words: `took out as ${as}: ${table.title}`, address })
  return table
}
