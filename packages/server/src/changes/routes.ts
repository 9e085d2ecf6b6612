import { pipeline } from 'node:stream/promises'
import { Router } from 'express'
import { isZone } from '@spoor/core'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind } from '../http/bind.ts'
import { reachOf } from '../people/reach.ts'
import { csvLines, exportQuery } from './csv.ts'
import { saveDetail } from './queries/detail.ts'
import { savePage } from './queries/saves.ts'
import { summarise } from './queries/summary.ts'
import { findRecords, readVocabulary } from './queries/vocabulary.ts'
import { requestedScopes } from './scope-request.ts'

export interface ChangesDeps {
  db: Database
}

export function changesRouter({ db }: ChangesDeps): Router {
  const router = Router()

  bind(router, routes.readVocabulary, ({ person }) => readVocabulary(db, reachOf(person)))
  bind(router, routes.findRecords, ({ query, person }) =>
    findRecords(db, query.words, query.typeId, reachOf(person), Date.now()),
  )

  bind(router, routes.listSaves, ({ query, person }) =>
    savePage(db, requestedScopes(query.scope, person), { after: query.after, limit: query.limit, nowMs: Date.now() }),
  )

  bind(router, routes.summariseChanges, ({ query, person }) =>
    summarise(db, requestedScopes(query.scope, person), Date.now()),
  )

  bind(router, routes.readSave, async ({ params, person }) => {
    const detail = await saveDetail(db, params.saveId, reachOf(person) ?? {}, Date.now())
    if (!detail) throw new Problem('not-found', `There is no save ${params.saveId} that you may see.`)
    return detail
  })

  bind(router, routes.exportChanges, async ({ query, person, response }) => {
    const scopes = requestedScopes(query.scope, person)
    if (!isZone(query.zone)) throw new Problem('bad-request', `The time zone “${query.zone}” is not known.`)
    response.type('text/csv; charset=utf-8').attachment(`changes-${new Date().toISOString().slice(0, 10)}.csv`)
    await pipeline(
      exportQuery(db, scopes, Date.now()).stream({ highWaterMark: 500 }),
      ...csvLines(query.columns, query.zone),
      response,
    ).catch((error: unknown) => {
      // The reader stopped the download: nothing to answer any more. Otherwise break off, so that the file is not taken for whole.
      response.destroy()
      if ((error as NodeJS.ErrnoException).code !== 'ERR_STREAM_PREMATURE_CLOSE') throw error
    })
  })

  return router
}
