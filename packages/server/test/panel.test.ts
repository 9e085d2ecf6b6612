import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { PanelStory, ProblemBody } from '@spoor/contract'
import { trailTicket } from '../../client/src/ticket.ts'
import { addApplication, endApplication } from '../src/panel/applications.ts'
import { serve, type Served } from './browser.ts'
import { withActorContext } from './context.ts'
import { makeWorld, track, type World } from './support.ts'

let world: World
let served: Served
let spoor: string
let applicationKey: string
let applicationId: number
const origin = 'https://desk.example'

beforeAll(async () => {
  world = await makeWorld(
    `create table public.flat (id int primary key, rent text, iban text); create table public.pair (a text, b text, primary key (a, b))`,
  )
  await track(world, { flat: '*', pair: '*' })
  const { business } = world
  await withActorContext(business, { actor: 'Petra' }, `insert into flat values (1, '<b>"rent"</b>', 'secret')`)
  await withActorContext(business, { actor: 'Oona', reason: 'agreed' }, `update flat set rent = '200', iban = 'other'`)
  await business.query(`insert into pair values ('a "b"', '..')`)
  await world.collect()
  const add = (login: string, role: 'reviewer' | 'contributor', actorName?: string) =>
    world.people.add({ login, name: login, role, password: 'a long password', ...(actorName ? { actorName } : {}) })
  await add('petra', 'reviewer')
  await add('oona', 'contributor', 'Oona')
  served = await serve(world)
  spoor = served.base.replace(/\/api\/v1$/, '')
  const added = await addApplication(world.db, { name: 'The desk', origin }, world.adminId)
  applicationKey = added.key
  applicationId = added.application.id
})
afterAll(async () => {
  await served.close()
  await world.close()
})

const wish = (user: string, key = ['1'], table = 'public.flat') => ({ spoor, applicationKey, user, table, key })
async function read(ticket: string, from: string | null = origin, query = ''): Promise<Response> {
  return await fetch(`${spoor}/api/v1/panel/story${query}`, {
    headers: { authorization: `Bearer ${ticket}`, ...(from === null ? {} : { origin: from }) },
  })
}
const story = async (ticket: string, query = '') => (await (await read(ticket, origin, query)).json()) as PanelStory
const problem = async (response: Response) => (await response.json()) as ProblemBody

describe('the trail on a business application’s own page', () => {
  it('shows what its person may see, to be narrowed to a field', async () => {
    const all = await story(await trailTicket(wish('petra')))
    expect(all).toMatchObject({
      typeName: 'flat',
      partial: false,
      saves: [
        { by: 'Oona', reason: 'agreed', changes: [{ before: '<b>"rent"</b>', after: '200' }, { after: 'other' }] },
        { by: 'Petra', action: 'create' },
      ],
    })
    const rent = all.fields.find(({ name }) => name === 'rent')!
    const narrowed = await story(await trailTicket(wish('petra')), `?field=${rent.id}`)
    expect(narrowed.saves.flatMap((save) => save.changes.map((change) => change.fieldId))).toEqual([rent.id, rent.id])
    const own = await story(await trailTicket(wish('Oona')))
    expect(own.partial).toBe(true)
    expect(own.saves.map((save) => save.by)).toEqual(['Oona'])
    expect((await story(await trailTicket(wish('petra', ['a "b"', '..'], 'pair')))).saves).toHaveLength(1)
  })

  it('never tells a masked value', async () => {
    const { id } = await world.db('spoor.field').where({ column_name: 'iban' }).first<{ id: number }>('id')
    const version = await world.db('spoor.plan_version').where({ state: 'in force' }).first<{ plan: object }>('plan')
    const masked = JSON.stringify(version.plan).replace(new RegExp(`"${id}":\\{`), `"${id}":{"masked":true,`)
    await world.db('spoor.plan_version').where({ state: 'in force' }).update({ plan: masked })
    const told = await (await read(await trailTicket(wish('petra')))).text()
    await world
      .db('spoor.plan_version')
      .where({ state: 'in force' })
      .update({ plan: JSON.stringify(version.plan) })
    expect(told).toContain('"hidden":"masked"')
    expect(told).not.toMatch(/secret|other/)
  })

  it.each([
    ['somebody without access', () => wish('nobody'), /no access to Spoor/],
    [
      'another key of the application',
      () => ({ ...wish('petra'), applicationKey: 'made-up' }),
      /not one that Spoor knows/,
    ],
    ['a table that is not there', () => wish('petra', ['1'], 'public.nothing'), /no one record type/],
    ['a key of too many parts', () => wish('petra', ['1', '2']), /no one record type/],
    ['a key of a thousand characters and more', () => wish('petra', ['x'.repeat(1001)]), /Nothing was changed/],
  ])('gives no ticket to %s', async (_, make, words) => {
    await expect(trailTicket(make())).rejects.toThrow(words)
  })

  it('refuses a ticket that is made up, old, on other pages, or for somebody who has left', async () => {
    expect((await read('made-up')).status).toBe(401)
    const ticket = await trailTicket(wish('petra'))
    const elsewhere = await read(ticket, 'https://evil.example')
    expect([elsewhere.status, elsewhere.headers.get('access-control-allow-origin')]).toEqual([403, '*'])
    expect((await read(ticket, null)).status).toBe(200)
    await world.db('spoor.person').where({ login: 'petra' }).update({ disabled_at: world.db.fn.now() })
    const left = await read(ticket)
    expect([left.status, (await problem(left)).detail]).toEqual([403, expect.stringContaining('no access')])
    await world.db('spoor.person').where({ login: 'petra' }).update({ disabled_at: null })
    await world.db('spoor.panel_ticket').update({ ends_at: world.db.raw(`now() - interval '1 second'`) })
    const old = await read(ticket)
    expect([old.status, (await problem(old)).detail]).toEqual([401, expect.stringContaining('has ended')])
  })

  it('shows nothing of a record that never was, and nothing more when the application is ended', async () => {
    expect((await read(await trailTicket(wish('petra', ['99'])))).status).toBe(404)
    const ticket = await trailTicket(wish('petra'))
    await endApplication(world.db, applicationId, world.adminId)
    expect((await read(ticket)).status).toBe(401)
    await expect(trailTicket(wish('petra'))).rejects.toThrow(/not one that Spoor knows/)
    const kept = JSON.stringify(await world.db('spoor.application').select('*'))
    expect(kept).not.toContain(applicationKey)
  })

  it('may be asked for before it is, and by nothing but its ticket', async () => {
    const asked = await fetch(`${spoor}/api/v1/panel/story`, { method: 'OPTIONS', headers: { origin } })
    expect([asked.status, asked.headers.get('access-control-allow-headers')]).toEqual([204, 'authorization'])
    expect(asked.headers.get('access-control-allow-credentials')).toBeNull()
  })
})
