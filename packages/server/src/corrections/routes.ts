import { Router } from 'express'
import { routes } from '@spoor/contract'
import { bind } from '../http/bind.ts'
import { sendDownload } from '../http/download.ts'
import { recordEvent } from '../ledger/events.ts'
import { proposeCorrection, sendCorrectionBack } from './approval.ts'
import type { CarryOutDeps } from './carry-out.ts'
import { correct } from './correcting.ts'
import { correctionList, correctionScript, noteGivenOut } from './file.ts'
import { draftCorrection } from './draft.ts'
import { readCorrection } from './shown.ts'
import { listCorrections, listItems } from './store.ts'

export function correctionsRouter(deps: CarryOutDeps): Router {
  const { db } = deps
  const router = Router()

  bind(router, routes.listCorrections, async () => ({ corrections: await listCorrections(db) }))

  bind(router, routes.listCorrectionSources, async () => ({
    sources: await db('spoor.source').orderBy('name').select<{ id: number; name: string }[]>('id', 'name'),
  }))

  bind(router, routes.draftCorrection, async ({ body, person }) => {
    const id = await draftCorrection(deps, body, person)
    await correct(deps, { what: 'rehearse', correctionId: id, person, items: [], groups: [], leaveRefused: false })
    await recordEvent(db, { kind: 'correction', personId: person.id, words: `drafted correction ${id}` })
    return await readCorrection(db, id)
  })

  bind(router, routes.readCorrection, ({ params }) => readCorrection(db, params.correctionId))

  bind(router, routes.listCorrectionItems, ({ params, query }) => listItems(db, params.correctionId, query))

  bind(router, routes.exportCorrectionScript, async ({ params: { correctionId }, person, request, response }) => {
    const script = await correctionScript(db, deps.sources, correctionId)
    await noteFile(db, correctionId, { personId: person.id, address: request.ip, as: 'a script' })
    response.type('application/sql; charset=utf-8').attachment(`correction-${correctionId}.sql`).send(script)
  })

  bind(router, routes.exportCorrectionList, async ({ params: { correctionId }, person, request, response }) => {
    const list = await correctionList(db, deps.sources, correctionId)
    await noteFile(db, correctionId, { personId: person.id, address: request.ip, as: 'CSV' })
    response.type('text/csv; charset=utf-8').attachment(`correction-${correctionId}.csv`)
    await sendDownload(response, [list])
  })

  bind(router, routes.rehearseCorrection, async ({ params: { correctionId }, body, person }) => {
    const { choices, groups, leaveRefused } = body
    const items = choices.map(({ itemId, choice }) => [itemId, choice] as const)
    await correct(deps, { what: 'rehearse', correctionId, person, items, groups, leaveRefused })
    return await readCorrection(db, correctionId)
  })

  bind(router, routes.proposeCorrection, async ({ params, body, person }) => {
    await proposeCorrection(db, params.correctionId, body.reason, person)
    return await readCorrection(db, params.correctionId)
  })

  bind(router, routes.sendCorrectionBack, async ({ params, body, person }) => {
    await sendCorrectionBack(db, params.correctionId, body.words, person)
    return await readCorrection(db, params.correctionId)
  })

  bind(router, routes.applyCorrection, async ({ params: { correctionId }, body, person }) => {
    await correct(deps, { what: 'apply', correctionId, person, reason: body.reason, piecemeal: body.piecemeal })
    return await readCorrection(db, correctionId)
  })

  return router
}

async function noteFile(
  db: CarryOutDeps['db'],
  correctionId: number,
  { personId, address, as }: { personId: number; address: string | undefined; as: string },
): Promise<void> {
  await noteGivenOut(db, correctionId, personId)
  await recordEvent(db, { kind: 'export', personId, words: `took correction ${correctionId} out as ${as}`, address })
}
