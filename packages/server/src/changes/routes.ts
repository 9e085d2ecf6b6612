import { Router } from 'express'
import type { Scope } from '@spoor/core'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind } from '../http/bind.ts'
import { sendDownload } from '../http/download.ts'
import { csvLines, exportQuery } from './csv.ts'
import { keepLayout, readLayouts } from './layouts.ts'
import { recordEvent } from '../ledger/events.ts'
import { closedAs, maskedFields } from '../ledger/masked.ts'
import { changeValues, saveDetail } from './queries/detail.ts'
import { savePage } from '../ledger/saves.ts'
import { summarise } from './queries/summary.ts'
import { readHeldValues } from './queries/held-values.ts'
import { readVocabulary } from './queries/vocabulary.ts'
import { exportWords } from '../ledger/scope-words.ts'
import { reachFor, requestedScopes } from '../scope/request.ts'

const ofRun = (run: number): Scope => ({
  how: { part: 'how', exclude: false, actions: [], channels: [], runs: [run] },
})

export interface ChangesDeps {
  db: Database
}

export function changesRouter({ db }: ChangesDeps): Router {
  const router = Router()

  bind(router, routes.readVocabulary, async ({ person }) => readVocabulary(db, await reachFor(db, person), Date.now()))

  bind(router, routes.readHeldValues, async ({ params, person }) => readHeldValues(db, params.fieldId, person))

  bind(router, routes.readLayouts, async ({ person }) => ({ layouts: await readLayouts(db, person.id) }))
  bind(router, routes.keepLayout, async ({ params, body, person }) => {
    await keepLayout(db, person.id, params.list, body.columns)
    return { kept: true as const }
  })

  bind(router, routes.listSaves, async ({ query, person }) => {
    const { after, limit, sort, descending, together, run } = query
    const scopes = await requestedScopes(db, query.scope, person)
    return await savePage(db, run === undefined ? scopes : [...scopes, ofRun(run)], {
      after,
      limit,
      sort,
      descending: descending === '1',
      together: together === '1',
      nowMs: Date.now(),
    })
  })

  bind(router, routes.summariseChanges, async ({ query, person }) =>
    summarise(db, await requestedScopes(db, query.scope, person), Date.now()),
  )

  bind(router, routes.revealChange, async ({ params, body, person, request }) => {
    const values = await changeValues(
      db,
      { saveId: params.saveId, fieldId: body.fieldId, sides: ['before', 'after'] },
      await reachFor(db, person),
      Date.now(),
    )
    if (!values) throw new Problem('not-found', `Save ${params.saveId} has no such change that you may see.`)
    const field = await db('spoor.field').where({ id: body.fieldId }).first<{ name: string }>('name')
    await recordEvent(db, {
      kind: 'reveal',
      personId: person.id,
      words: `revealed ${field.name} of save ${params.saveId}`,
      address: request.ip,
    })
    return values
  })

  bind(router, routes.readValue, async ({ params: { saveId, fieldId }, query: { side }, person, response }) => {
    const masked = (await maskedFields(db)).has(fieldId)
    const wanted = { saveId, fieldId, sides: [side] }
    const values = masked ? null : await changeValues(db, wanted, await reachFor(db, person), Date.now())
    const value = values?.[side] ?? null
    if (value === null) throw new Problem('not-found', `Save ${saveId} has no such value that you may see.`)
    response.type('text/plain; charset=utf-8').attachment(`save-${saveId}-field-${fieldId}-${side}.txt`).send(value)
  })

  bind(router, routes.readSave, async ({ params, person }) => {
    const detail = await saveDetail(db, params.saveId, await reachFor(db, person), Date.now())
    if (!detail) throw new Problem('not-found', `There is no save ${params.saveId} that you may see.`)
    return detail
  })

  bind(router, routes.exportChanges, async ({ query, person, request, response }) => {
    const scopes = await requestedScopes(db, query.scope, person)
    const { list, sort, descending } = query
    const masked = await maskedFields(db)
    const order = { list, sort, descending: descending === '1' }
    const rows = await exportQuery(db, scopes, order, masked, Date.now())
    await recordEvent(db, {
      kind: 'export',
      personId: person.id,
      words: `took changes out as CSV: ${await exportWords(db, query.scope, person)}`,
      address: request.ip,
    })
    response.type('text/csv; charset=utf-8').attachment(`changes-${new Date().toISOString().slice(0, 10)}.csv`)
    await sendDownload(response, [rows.stream(), csvLines(query.columns, query.zone, closedAs(masked))])
  })

  return router
}
