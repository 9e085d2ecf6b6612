import { Router } from 'express'
import { routes } from '@spoor/contract'
import { counted, listed } from '@spoor/core'
import { reachFor } from '../scope/request.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { proofsOfFound } from '../found/prove.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { isLimited } from '../ledger/reach.ts'
import { sendDownload } from '../http/download.ts'
import type { Sources } from '../sources/registry.ts'
import type * as v from 'valibot'
import { KeyLists, standingPage, type StandingRequest } from '../standing/list.ts'
import { findRecords } from './find.ts'
import { gridLines, gridSheet } from '../standing/grid-csv.ts'
import { gridWorkbook } from '../standing/grid-workbook.ts'
import { presentOf } from './present.ts'
import { storyOf } from './story.ts'

export interface RecordsDeps {
  db: Database
  sources: Sources
}

/** Records as the trail knows them. */
export function recordsRouter({ db, sources }: RecordsDeps): Router {
  const router = Router()
  const lists = new KeyLists()
  bind(router, routes.readStoryOfRecord, async ({ query, person }) =>
    storyOf(db, query.typeId, query.key, await reachFor(db, person), Date.now(), { role: person.role }),
  )
  bind(router, routes.findRecords, async ({ query, person }) =>
    findRecords(db, query.words, query.typeId, await reachFor(db, person), Date.now()),
  )
  bind(router, routes.proveFound, async ({ query }) => ({ found: await proofsOfFound(db, query.typeId, query.key) }))
  bind(router, routes.listStanding, async ({ query, person }) => {
    await demandAll(db, person)
    return await standingPage(db, lists, await requestOf(db, query))
  })
  bind(router, routes.exportStanding, async ({ query, person, request, response }) => {
    await demandAll(db, person)
    const { asked, fields, plural } = await exportOf(db, query)
    // What keeps it from being read is said instead of a file that breaks off.
    const lines = await begun(gridLines(db, lists, asked))
    await noteExport(db, person, request.ip, { asked, fields, plural, as: 'CSV' })
    response.type('text/csv; charset=utf-8').attachment(`${plural}-${asked.at.slice(0, 10)}.csv`)
    await sendDownload(response, [lines, gridSheet(fields.map(({ name }) => name))])
  })
  bind(router, routes.exportStandingWorkbook, async ({ query, person, request, response }) => {
    await demandAll(db, person)
    const { asked, fields, plural } = await exportOf(db, query)
    const workbook = await gridWorkbook(db, lists, asked, fields, plural)
    await noteExport(db, person, request.ip, { asked, fields, plural, as: 'a workbook' })
    response
      .type('application/vnd.openxmlformats-officedocument.spreadsheetml.sheet')
      .attachment(`${plural}-${asked.at.slice(0, 10)}.xlsx`)
      .send(workbook)
  })
  bind(router, routes.readPresentRecord, async ({ query, person }) => {
    await demandAll(db, person)
    return await presentOf(db, sources, query.typeId, query.key)
  })
  return router
}

interface GridExport {
  /** Of one moment, however long it takes. */
  asked: StandingRequest & { at: string }
  /** In the order in which they are asked for. */
  fields: { name: string; baseType: string }[]
  plural: string
}

async function exportOf(db: Database, query: GridQuery): Promise<GridExport> {
  const asked = { ...(await requestOf(db, query)), at: query.at ?? new Date().toISOString() }
  const [type] = await db('spoor.record_type').where({ id: query.typeId }).select<{ plural: string }[]>('plural')
  const known = await db('spoor.field')
    .where({ type_id: query.typeId })
    .select<{ id: number; name: string; baseType: string }[]>('id', 'name', 'base_type as baseType')
  return { asked, plural: type!.plural, fields: asked.fieldIds.map((id) => known.find((field) => field.id === id)!) }
}

async function noteExport(
  db: Database,
  person: SignedIn,
  address: string | undefined,
  { asked, fields, plural, as }: GridExport & { as: string },
): Promise<void> {
  const names = listed(fields.map(({ name }) => name))
  await recordEvent(db, {
    kind: 'export',
    personId: person.id,
    words: `took ${plural} as they stood ${asked.at} out as ${as}: ${names}${conditionsSaid(asked.where.length)}`,
    address,
  })
}

/** What a generator gives, its first already asked for. @throws what that throws */
async function begun<T>(items: AsyncGenerator<T>): Promise<AsyncGenerator<T>> {
  const first = await items.next()
  return (async function* () {
    if (first.done) return
    yield first.value
    yield* items
  })()
}

const conditionsSaid = (many: number) => (many === 0 ? '' : `, those only that met ${counted(many, 'condition')}`)

const pageSize = 100

type GridQuery = v.InferOutput<(typeof routes.exportStanding)['query']> & { after?: string | undefined }

/** @throws Problem where a field is not one of the type's */
async function requestOf(db: Database, { fields, order, where = [], ...query }: GridQuery): Promise<StandingRequest> {
  const by = order === undefined ? null : { fieldId: Math.abs(Number(order)), descending: order.startsWith('-') }
  const asked = [...where.map((one) => one.fieldId), ...(by ? [by.fieldId] : [])]
  const { typeId, words, at, marks, after } = query
  await demandFields(db, typeId, [...new Set([...fields, ...asked])])
  return {
    typeId,
    words,
    at,
    marks,
    after,
    fieldIds: fields,
    where,
    order: by,
    limit: pageSize,
  }
}

/** @throws Problem for whoever sees a part: what is there now comes from saves of anybody. */
async function demandAll(db: Database, person: SignedIn): Promise<void> {
  if (isLimited(await reachFor(db, person)))
    throw new Problem('not-allowed', 'Whoever sees a part of the trail is not told what records hold now.')
}

/** @throws Problem where one is not a field of the type */
async function demandFields(db: Database, typeId: number, wanted: readonly number[]): Promise<void> {
  const own = await db('spoor.field').where({ type_id: typeId }).whereIn('id', wanted).pluck<number[]>('id')
  const strange = wanted.filter((id) => !own.includes(id))
  if (strange.length > 0)
    throw new Problem('not-found', `There is no field ${strange[0]} of such a record type. Nothing was read.`)
}
