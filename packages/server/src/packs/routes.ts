import { createReadStream } from 'node:fs'
import { stat } from 'node:fs/promises'
import { Router, type Response } from 'express'
import { exportHeadings, routes, type Pack, type PackPreview } from '@spoor/contract'
import { exportQuery, type ExportRow } from '../changes/csv.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { sendDownload } from '../http/download.ts'
import { recordEvent } from '../ledger/events.ts'
import { maskedFields } from '../ledger/masked.ts'
import { requestedScopes } from '../scope/request.ts'
import type { TimeAuthority } from '../custody/authority.ts'
import { besideTitle } from './beside.ts'
import { fieldsIn, firstPage } from './first-page.ts'
import { blackedScopesOf, closedByField, closedText, closingsOf } from './closings.ts'
import { endLink, handed, makeLink, takeHanded } from './links.ts'
import { demandMail, endRegularPack, listRegularPacks, makeRegularPack } from './regular.ts'
import { askForPack, listPacks, mailPack, packRow, readPack, type PackBody } from './store.ts'
import { paperCell } from './tables.ts'
import { packPath, removeWithdrawn, withdrawPack } from './withdraw.ts'

export interface PacksDeps {
  db: Database
  /** Where the files of packs are kept. */
  directory: string
  /** Who stamps packs with the time; null where nobody is set. */
  authority: TimeAuthority | null
  /** Whether Spoor can send mail. */
  mayMail: boolean
}

/** Why there is nothing to be taken. */
const thereIsNone: Readonly<Record<Exclude<Pack['state'], 'kept'>, string>> = {
  going: 'It is still being made.',
  failed: 'It was not made.',
  withdrawn: 'It was withdrawn.',
}

/** Evidence: packs made of what is in a scope, kept in a register. */
export function packsRouter({ db, directory, authority, mayMail }: PacksDeps): Router {
  const router = Router()
  bind(router, routes.listPacks, ({ query, person }) => listPacks(db, person, query.before))
  bind(router, routes.previewPack, ({ body, person }) => preview(db, body, person, authority?.name ?? null))
  bind(router, routes.makePack, ({ body, person, request }) => askForPack(db, body, person, { address: request.ip }))
  bind(router, routes.readPack, ({ params, person }) => readPack(db, person, params.packId))
  bind(router, routes.takePack, async ({ params, person, request, response }) => {
    const row = await packRow(db, person, params.packId)
    if (row.state !== 'kept') throw new Problem('pack-not-there', thereIsNone[row.state])
    await demandFile(directory, row.id)
    await db.transaction(async (trx) => {
      await trx('spoor.pack_taking').insert({ pack_id: row.id, person_id: person.id })
      await recordEvent(trx, { kind: 'export', personId: person.id, words: `took pack ${row.id}`, address: request.ip })
    })
    await sendPack(response, directory, row.id)
  })
  bind(router, routes.makePackLink, async ({ params, body, person, request }) => {
    const row = await packRow(db, person, params.packId)
    if (row.state !== 'kept') throw new Problem('pack-not-there', 'Only a pack that is kept can be handed over.')
    const { token } = await makeLink(db, row.id, body, person, request.ip)
    return { linkToken: token, pack: await readPack(db, person, row.id) }
  })
  bind(router, routes.mailPack, async ({ params, body, person }) => {
    const row = await packRow(db, person, params.packId)
    if (row.state !== 'kept') throw new Problem('pack-not-there', 'Only a pack that is kept can be sent.')
    demandMail(person, mayMail)
    await mailPack(db, row.id, body, person)
    return await readPack(db, person, row.id)
  })
  bind(router, routes.listRegularPacks, async ({ person }) => ({
    regular: await listRegularPacks(db, person),
    mayMail,
  }))
  bind(router, routes.makeRegularPack, async ({ body, person }) => ({
    regular: await makeRegularPack(db, body, person, { mayMail }),
    mayMail,
  }))
  bind(router, routes.endRegularPack, async ({ params, person }) => ({
    regular: await endRegularPack(db, person, params.regularId),
    mayMail,
  }))
  bind(router, routes.endPackLink, async ({ params, person }) => {
    const row = await packRow(db, person, params.packId)
    await endLink(db, row.id, params.linkId, person)
    return await readPack(db, person, row.id)
  })
  bind(router, routes.readHandedPack, async ({ params }) => {
    const one = await handed(db, params.token)
    const { pack_id: number, title, by, size, digest, ends_at: endsAt, left } = one
    return { number, title, by, size: Number(size), digest, endsAt, left }
  })
  bind(router, routes.takeHandedPack, async ({ params, request, response }) => {
    await demandFile(directory, (await handed(db, params.token)).pack_id)
    const { pack_id: packId } = await takeHanded(db, params.token, request.ip)
    await sendPack(response, directory, packId)
  })
  bind(router, routes.withdrawPack, async ({ params, body, person, request }) => {
    const row = await packRow(db, person, params.packId)
    if (row.state !== 'kept') throw new Problem('pack-not-there', `Nothing was withdrawn. ${thereIsNone[row.state]}`)
    await db.transaction((trx) =>
      withdrawPack(trx, row.id, { personId: person.id, why: body.why, address: request.ip }),
    )
    await removeWithdrawn(db, directory)
    return await readPack(db, person, row.id)
  })
  return router
}

async function demandFile(directory: string, packId: number): Promise<void> {
  if (!(await stat(packPath(directory, packId)).catch(() => null)))
    throw new Problem('pack-not-there', 'Its file is not where Spoor keeps packs any more. Make it again.')
}

async function sendPack(response: Response, directory: string, packId: number): Promise<void> {
  response.type('application/zip').attachment(`pack-${packId}.zip`)
  await sendDownload(response, [createReadStream(packPath(directory, packId))])
}

const mostLines = 14

async function preview(db: Database, body: PackBody, person: SignedIn, authority: string | null): Promise<PackPreview> {
  const nowMs = Date.now()
  const [scopes, masked] = [await requestedScopes(db, body.scope, person), await maskedFields(db)]
  const [page, fields] = await Promise.all([
    firstPage({ db, moment: db }, body, { person, scopes, nowMs }),
    fieldsIn(db, scopes, nowMs, masked),
  ])
  const reader = { scopes, role: person.role, zone: body.zone }
  const out = await blackedScopesOf(db, body.blackedScopes ?? [], person)
  const blacked = Object.fromEntries(body.blacked.map(({ fieldId, why }) => [fieldId, why]))
  const closings = await closingsOf(db, { blacked, work: body.work ?? null }, { scopes, out, nowMs })
  const singly = closedByField(closings)
  const order = { list: 'changes', sort: 'time', descending: false } as const
  const { limited } = await exportQuery(db, scopes, order, new Set(closings.fields.keys()), nowMs)
  const rows = (await limited(mostLines)) as ExportRow[]
  const closed = closedText(closings)
  return {
    cover: {
      ...page,
      number: 0,
      authority: body.stamped ? authority : null,
      closed: fields.flatMap(({ fieldId, name, type, changes }) => {
        const why = closings.fields.get(fieldId)
        const own = why === undefined ? singly.filter((one) => one.fieldId === fieldId) : [{ why, values: changes }]
        return own.map((one) => ({ what: `${name} of ${type}`, why: one.why, values: one.values }))
      }),
      unsealed: 0,
      files: [],
    },
    authority,
    fields,
    heads: body.columns.map((column) => exportHeadings[column]),
    lines: rows.map((row) => body.columns.map((column) => paperCell(row, column, body.zone, closed))),
    beside: await Promise.all((body.beside ?? []).map((one) => besideTitle(db, one, reader))),
    blackedScopes: [...closings.counts],
  }
}
