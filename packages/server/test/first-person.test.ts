import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest'
import pg from 'pg'
import type { ProblemBody, Session } from '@spoor/contract'
import { FirstPerson } from '../src/people/first-person.ts'
import { serve, Visitor, type Served } from './browser.ts'
import { makeWorld, type World } from './support.ts'
import { urlFor } from './names.ts'

/** The link that makes the first administrator. */
let world: World
let served: Served
let first: FirstPerson
beforeAll(async () => {
  world = await makeWorld('select 1')
  first = new FirstPerson(world.db)
  served = await serve(world, { first })
})
afterAll(async () => {
  await served.close()
  await world.close()
})
afterEach(() => vi.useRealTimers())

const arrive = () => new Visitor(served.base.replace(/\/api\/v1$/, '')).arrive()
const key = () => first.path.split('#')[1]!
const ada = { login: 'Grace', name: 'Grace First', password: 'a password of the first' }
async function make(body: Record<string, string>) {
  const response = await (await arrive()).send('POST', '/session/first', { key: key(), ...ada, ...body })
  return { status: response.status, body: (await response.json()) as Partial<ProblemBody> }
}
async function nobodyLeft(): Promise<void> {
  const client = new pg.Client({ connectionString: urlFor(world.superuserUrl, world.names.spoor) })
  await client.connect()
  await client.query('truncate spoor.person cascade')
  await client.end()
}
const people = () => world.db('spoor.person').select<{ login: string; role: string }[]>('login', 'role')

describe('the first administrator', () => {
  it('is made by nobody where somebody can sign in already, whatever they bring', async () => {
    expect(await first.wanted()).toBe(false)
    expect((await make({})).status).toBe(403)
    expect(await people()).toHaveLength(1)
  })

  it('is made once, by the link alone, by however many who follow it at once', async () => {
    await nobodyLeft()
    const { wanted } = (await (await (await arrive()).send('GET', '/session/first')).json()) as { wanted: boolean }
    expect(wanted).toBe(true)
    for (const wrong of ['', 'x', key().slice(1), `${key()}=`])
      expect((await make({ key: wrong })).body.detail).toContain('Nobody was added')
    expect((await make({ password: 'short' })).body.code).toBe('rule-broken')
    expect(await people()).toEqual([])
    const tries = await Promise.all(['grace', 'mallory', 'trent'].map((login) => make({ login })))
    expect(tries.map(({ status }) => status).sort()).toEqual([200, 403, 403])
    const [made] = await people()
    expect(made).toMatchObject({ role: 'administrator' })
    expect(await people()).toHaveLength(1)
    const visitor = await arrive()
    expect((await visitor.signIn(made!.login, ada.password)).status).toBe(200)
    const { person } = (await (await visitor.send('GET', '/session')).json()) as Session
    expect(person?.name).toBe('Grace First')
    const event = await world
      .db('ledger.event')
      .orderBy('id', 'desc')
      .where({ kind: 'person' })
      .first<{ words: string }>('words')
    expect(event.words).toContain('became the first administrator')
  })

  it('is made by no link that is older than an hour, or of another start', async () => {
    await nobodyLeft()
    expect((await make({ key: new FirstPerson(world.db).path.split('#')[1]! })).status).toBe(403)
    vi.useFakeTimers({ toFake: ['Date'] })
    vi.setSystemTime(Date.now() + 3_601_000)
    await expect(first.make(key(), ada)).rejects.toMatchObject({ code: 'not-allowed' })
    expect(await people()).toEqual([])
  })
})
