import express, { Router, type Request, type RequestHandler } from 'express'
import { routes, type PanelStory } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { reachFor } from '../scope/request.ts'
import { storyOf } from '../records/story.ts'
import { addApplication, endApplication, listApplications } from './applications.ts'
import { makeTicket, ticketOf, type Ticket } from './tickets.ts'

export function applicationsRouter({ db }: { db: Database }): Router {
  const router = Router()
  bind(router, routes.listApplications, async () => ({ applications: await listApplications(db) }))
  bind(router, routes.addApplication, ({ body, person }) => addApplication(db, body, person.id))
  bind(router, routes.endApplication, ({ params, person }) => endApplication(db, params.applicationId, person.id))
  return router
}

/** The token of an Authorization header; empty where there is none. */
const bearer = (request: Request) => /^Bearer ([\w-]{1,200})$/.exec(request.get('authorization') ?? '')?.[1] ?? ''

/** Any page may read what is answered: it takes a ticket, and that is held against where the page is. */
const anyPage: RequestHandler = (request, response, next) => {
  response.set('access-control-allow-origin', '*')
  if (request.method !== 'OPTIONS') {
    next()
    return
  }
  response
    .set({ 'access-control-allow-headers': 'authorization', 'access-control-allow-methods': 'GET' })
    .set('access-control-max-age', '600')
    .status(204)
    .end()
}

const mostSaves = 200

/**
 * Trails on the pages of business applications: no session, no cookie. An application's server asks for a ticket for its
 * signed-in user and one record; what the ticket shows is what that person may see.
 * @param find the person of a ticket, as of now; null where they may not be here any more
 */
export function panelRouter({ db, find }: { db: Database; find(personId: number): Promise<SignedIn | null> }): Router {
  const router = Router()
  router.use('/panel', express.json({ limit: '64kb' }))
  router.use('/panel/story', anyPage)
  bind(router, routes.makePanelTicket, ({ body, request }) => makeTicket(db, bearer(request), body))
  bind(router, routes.readPanelStory, async ({ query, request }) => {
    const ticket = await ticketOf(db, bearer(request))
    const asking = request.get('origin')
    if (asking !== undefined && asking !== ticket.origin)
      throw new Problem('not-allowed', 'The ticket is for the pages of another application.')
    const person = await find(ticket.personId)
    if (!person) throw new Problem('not-allowed', 'Whoever the ticket is for has no access to Spoor any more.')
    return await panelStory(db, ticket, person, query.field)
  })
  return router
}

async function panelStory(
  db: Database,
  { typeId, key }: Ticket,
  person: SignedIn,
  fieldId: number | undefined,
): Promise<PanelStory> {
  const story = await storyOf(db, typeId, key, await reachFor(db, person), Date.now())
  const type = await db('spoor.record_type').where({ id: typeId }).first<{ name: string }>('name')
  const names = new Map(
    (await db('spoor.field').where({ type_id: typeId }).select<{ id: number; name: string }[]>('id', 'name')).map(
      (field) => [field.id, field.name],
    ),
  )
  const labels = new Map(story.references.map((one) => [`${one.fieldId} ${one.value}`, one.label]))
  const labelOf = (field: number, value: string | null) =>
    value === null ? null : (labels.get(`${field} ${value}`) ?? null)
  const changed = new Set(story.saves.flatMap((save) => save.changes.map((change) => change.fieldId)))
  const wanted = story.saves.filter(
    (save) => fieldId === undefined || save.changes.some((change) => change.fieldId === fieldId),
  )
  return {
    typeName: type.name,
    label: story.record.label,
    fields: [...changed].map((id) => ({ id, name: names.get(id) ?? `field ${id}` })),
    saves: wanted
      .slice(-mostSaves)
      .reverse()
      .map((save) => ({
        id: save.id,
        at: save.at,
        action: save.action,
        by: save.actor.knownAs ?? save.actor.name,
        claimed: save.actor.claimed,
        channel: save.channel,
        reason: save.reason,
        changes: save.changes
          .filter((change) => fieldId === undefined || change.fieldId === fieldId)
          .map(({ fieldId: id, before, after, masked, erased }) => ({
            fieldId: id,
            before,
            after,
            hidden: erased ? ('erased' as const) : masked ? ('masked' as const) : null,
            beforeLabel: labelOf(id, before),
            afterLabel: labelOf(id, after),
          })),
      })),
    more: story.more || wanted.length > mostSaves,
    partial: story.partial,
    zone: person.zone,
  }
}
