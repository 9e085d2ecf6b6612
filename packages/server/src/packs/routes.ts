import { createReadStream } from 'node:fs'
import { stat } from 'node:fs/promises'
import { Router } from 'express'
import { isZone } from '@spoor/core'
import { exportHeadings, routes, type PackPreview } from '@spoor/contract'
import { exportQuery, type ExportRow } from '../changes/csv.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { sendDownload } from '../http/download.ts'
import { recordEvent } from '../ledger/events.ts'
import { maskedFields } from '../ledger/masked.ts'
import { requestedScopes } from '../ledger/scope-request.ts'
import { fieldsIn, firstPage } from './first-page.ts'
import { blackedWhy, maskedWhy } from './packing.ts'
import { askForPack, listPacks, packRow, readPack, type PackBody } from './store.ts'
import { closedAsText, paperCell } from './tables.ts'
import { packPath, removeWithdrawn, withdrawPack } from './withdraw.ts'

export interface PacksDeps {
  db: Database
  /** Where the files of packs are kept. */
  directory: string
}

/** Evidence: packs made of what is in a scope, kept in a register. */
export function packsRouter({ db, directory }: PacksDeps): Router {
  const router = Router()
  bind(router, routes.listPacks, ({ query, person }) => listPacks(db, person, query.before))
  bind(router, routes.previewPack, ({ body, person }) => preview(db, body, person))
  bind(router, routes.makePack, ({ body, person, request }) => askForPack(db, body, person, request.ip))
  bind(router, routes.readPack, ({ params, person }) => readPack(db, person, params.packId))
  bind(router, routes.takePack, async ({ params, person, request, response }) => {
    const row = await packRow(db, person, params.packId)
    if (row.state !== 'kept')
      throw new Problem('pack-not-there', row.state === 'going' ? 'It is still being made.' : 'It was withdrawn.')
    const path = packPath(directory, row.id)
    if (!(await stat(path).catch(() => null)))
      throw new Problem('pack-not-there', 'Its file is not where Spoor keeps packs any more. Make it again.')
    await db.transaction(async (trx) => {
      await trx('spoor.pack_taking').insert({ pack_id: row.id, person_id: person.id })
      await recordEvent(trx, { kind: 'export', personId: person.id, words: `took pack ${row.id}`, address: request.ip })
    })
    response.type('application/zip').attachment(`pack-${row.id}.zip`)
    await sendDownload(response, [createReadStream(path)])
  })
  bind(router, routes.withdrawPack, async ({ params, body, person, request }) => {
    const row = await packRow(db, person, params.packId)
    if (row.state !== 'kept')
      throw new Problem(
        'pack-not-there',
        row.state === 'going' ? 'It is still being made; stop that instead.' : 'It was withdrawn already.',
      )
    await db.transaction((trx) =>
      withdrawPack(trx, row.id, { personId: person.id, why: body.why, address: request.ip }),
    )
    await removeWithdrawn(db, directory)
    return await readPack(db, person, row.id)
  })
  return router
}

const mostLines = 14

async function preview(db: Database, body: PackBody, person: SignedIn): Promise<PackPreview> {
  if (!isZone(body.zone)) throw new Problem('bad-request', `The time zone “${body.zone}” is not known.`)
  const nowMs = Date.now()
  const [scopes, masked] = [await requestedScopes(db, body.scope, person), await maskedFields(db)]
  const [page, fields] = await Promise.all([
    firstPage({ db, moment: db }, body, { person, scopes, nowMs }),
    fieldsIn(db, scopes, nowMs, masked),
  ])
  const closed = new Map([
    ...[...masked].map((fieldId) => [fieldId, maskedWhy] as const),
    ...body.blacked.map(({ fieldId, why }) => [fieldId, blackedWhy(why)] as const),
  ])
  const order = { list: 'changes', sort: 'time', descending: false } as const
  const { limited } = await exportQuery(db, scopes, order, new Set(closed.keys()), nowMs)
  const rows = (await limited(mostLines)) as ExportRow[]
  const texts = closedAsText(closed)
  return {
    cover: {
      ...page,
      number: 0,
      closed: fields.flatMap(({ fieldId, name, type, changes }) => {
        const why = closed.get(fieldId)
        return why === undefined ? [] : [{ what: `${name} of ${type}`, why, values: changes }]
      }),
      unsealed: 0,
      files: [],
    },
    fields,
    heads: body.columns.map((column) => exportHeadings[column]),
    lines: rows.map((row) => body.columns.map((column) => paperCell(row, column, body.zone, texts))),
  }
}
