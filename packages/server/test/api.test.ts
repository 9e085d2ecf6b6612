import { parse } from 'csv-parse/sync'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import {
  allows,
  permissionsOf,
  problems,
  roles,
  routes,
  type ProblemBody,
  type Role,
  type RouteShape,
} from '@spoor/contract'
import { inert } from '../src/ledger/inert.ts'
import { serve, Visitor, type Served } from './browser.ts'
import { withActorContext } from './context.ts'
import { makeWorld, track, type World } from './support.ts'

let world: World
let served: Served
let base: string

const hostile: readonly [string, string | null][] = [
  ['markup', '<img src=x onerror=alert(1)>&amp;'],
  ['quotes', `it's "quoted" \\ back`],
  ['commas', 'a,b;c\td'],
  ['breaks', 'line\r\nline\nline'],
  ['formula', '=HYPERLINK("http://x")'],
  ['signs', '+44 1632 960001'],
  ['apostrophe', "'tis"],
  ['minus', '-5'],
  ['emoji', '💧 עברית 你好'],
  ['empty', ''],
  ['long', 'x'.repeat(100_000)],
  ['null', null],
]

beforeAll(async () => {
  world = await makeWorld('create table public.note (id int primary key, word text)')
  await track(world, { note: ['word'] })
  for (const [at, [, value]] of hostile.entries()) {
    await world.business.query('insert into note values ($1, $2)', [at, 'before'])
    await world.business.query('update note set word = $2 where id = $1', [at, value])
  }
  await withActorContext(world.business, { actor: 'Cora Contributor' }, `insert into note values (900, 'hers')`)
  await world.collect()
  for (const role of roles)
    await world.people.add({
      login: role,
      name: role,
      role,
      password: `password of ${role}`,
      ...(role === 'contributor' ? { actorName: 'Cora Contributor' } : {}),
    })
  served = await serve(world)
  base = served.base.replace(/\/api\/v1$/, '')
})
afterAll(async () => {
  await served.close()
  await world.close()
})

const signedIn = async (login: string) => {
  const visitor = await new Visitor(base).arrive()
  expect((await visitor.signIn(login)).status).toBe(200)
  return visitor
}
const problem = async (response: Response) => (await response.json()) as ProblemBody

describe('every route asks who asks', () => {
  const shapes = Object.entries<RouteShape>(routes).filter(([name]) => name !== 'signOut')
  const filled = (shape: RouteShape) =>
    shape.path.replace(':saveId', '999999').replace(':correctionId', '999999').replace(':sourceId', '999999')

  it.each(shapes)('%s without a session', async (_, shape) => {
    const visitor = await new Visitor(base).arrive()
    const response = await visitor.send(shape.method, filled(shape))
    if (shape.needs === 'nobody') expect(response.status).not.toBe(403)
    else expect(response.status).toBe(401)
    await response.body?.cancel()
  })

  it.each(roles)('as %s', async (role: Role) => {
    const visitor = await signedIn(role)
    for (const [name, shape] of shapes) {
      if (shape.needs === 'nobody') continue
      const response = await visitor.send(shape.method, filled(shape))
      const allowed = shape.needs === 'session' || allows(role, shape.needs)
      expect([name, response.status === 403]).toEqual([name, !allowed])
      await response.body?.cancel()
    }
  })

  it('and is reached by its own path, whatever another’s path could mean', () => {
    const all = Object.values<RouteShape>(routes)
    const taken = (path: string, by: string) => new RegExp(`^${by.replace(/:\w+/g, '[^/]+')}$`).test(path)
    const rival = (shape: RouteShape) =>
      all.filter(
        (other) =>
          other !== shape &&
          other.method === shape.method &&
          !shape.path.includes(':') &&
          taken(shape.path, other.path),
      )
    // Where another route could take it, the test below asks it for real.
    expect(all.filter((shape) => rival(shape).length > 0).map((shape) => `${shape.method} ${shape.path}`)).toEqual([
      'PUT /people/rules',
    ])
  })

  it('the rules for signing in can be saved', async () => {
    const visitor = await signedIn('administrator')
    const { rules } = (await (await visitor.send('GET', '/people')).json()) as { rules: Record<string, number> }
    const response = await visitor.send('PUT', '/people/rules', { ...rules, idleMinutes: 45 })
    expect(response.status).toBe(200)
    expect(await response.json()).toMatchObject({ ...rules, idleMinutes: 45 })
    await visitor.send('PUT', '/people/rules', rules)
  })

  it.each(roles)('Today answers a %s', async (role) => {
    const visitor = await signedIn(role)
    const ask = async () => (await visitor.send('GET', '/today?zone=Europe%2FLondon')).status
    expect(await ask()).toBe(200)
    await world
      .db('spoor.person')
      .where({ login: role })
      .update({ reach_from: '2020-01-01', reach_until: '2099-01-01' })
    expect(await ask()).toBe(200)
    await world.db('spoor.person').where({ login: role }).update({ reach_from: null, reach_until: null })
  })

  it('a person’s permissions are those of the table', async () => {
    for (const role of roles) {
      const visitor = await signedIn(role)
      const { person } = (await (await visitor.send('GET', '/session')).json()) as { person: { permissions: string[] } }
      expect(person.permissions).toEqual(permissionsOf(role))
    }
  })

  it('a contributor sees and counts only their own changes', async () => {
    const visitor = await signedIn('contributor')
    const { saves } = (await (await visitor.send('GET', '/changes/saves')).json()) as {
      saves: { id: string; actor: { name: string } }[]
    }
    expect(saves.map((save) => save.actor.name)).toEqual(['Cora Contributor'])
    expect(await (await visitor.send('GET', '/changes/summary')).json()).toMatchObject({ saves: 1, changes: 1 })
    expect(await (await visitor.send('GET', '/changes/summary?scope=who%3D!k.person')).json()).toMatchObject({
      saves: 0,
    })
    const { actors } = (await (await visitor.send('GET', '/vocabulary')).json()) as { actors: { name: string }[] }
    expect(actors.map((actor) => actor.name)).toEqual(['Cora Contributor'])
    expect(await (await visitor.send('GET', '/records/find?words=1')).json()).toEqual({ records: [] })
    expect((await visitor.send('GET', '/changes/saves/1')).status).toBe(404)
  })

  it('somebody switched off is out at once', async () => {
    await world.people.add({ login: 'leaver', name: 'Leaver', role: 'reviewer', password: 'password of leaver' })
    const visitor = await signedIn('leaver')
    await world.db('spoor.person').where({ login: 'leaver' }).update({ disabled_at: world.db.fn.now() })
    expect((await visitor.send('GET', '/changes/saves')).status).toBe(401)
  })
})

describe('signing in', () => {
  it('says nothing about which half was wrong', async () => {
    const visitor = await new Visitor(base).arrive()
    const wrongPassword = await problem(await visitor.signIn('administrator', 'wrong'))
    const wrongName = await problem(await visitor.signIn('nobody at all', 'wrong'))
    expect(wrongName).toEqual(wrongPassword)
    expect(wrongName.code).toBe('sign-in-refused')
  })

  it('is slowed down after failures, for that name only', async () => {
    const visitor = await new Visitor(base).arrive()
    for (let i = 0; i < 8; i++) await visitor.signIn('approver', 'wrong')
    expect((await problem(await visitor.signIn('approver'))).code).toBe('sign-in-slowed')
    expect((await visitor.signIn('reviewer')).status).toBe(200)
  })

  it('changes the session’s number and token', async () => {
    const visitor = await new Visitor(base).arrive()
    const before = [visitor.cookie, visitor.token]
    await visitor.signIn('auditor')
    expect(visitor.cookie).not.toBe(before[0])
    expect(visitor.token).not.toBe(before[1])
  })

  it('sets a cookie that scripts and foreign pages cannot use', async () => {
    const response = await fetch(`${base}/api/v1/session`)
    expect(response.headers.getSetCookie()[0]).toMatch(/HttpOnly; SameSite=Strict/)
  })

  it('keeps passwords as argon2id', async () => {
    const rows = await world.db('spoor.person').select<{ password_hash: string }[]>('password_hash')
    for (const row of rows) expect(row.password_hash).toMatch(/^\$argon2id\$v=19\$m=19456,t=2,p=1\$/)
  })
})

describe('what comes from outside', () => {
  it('a request without the session’s token changes nothing', async () => {
    const visitor = await signedIn('administrator')
    visitor.token = 'guessed'
    expect((await problem(await visitor.send('DELETE', '/session'))).code).toBe('forged-request')
    expect(((await (await visitor.send('GET', '/session')).json()) as { person: unknown }).person).not.toBeNull()
  })

  it.each(['what=f1,zebra', 'when=yesterday', 'colour=red', 'who=a1&who=a2'])(
    'a scope of %s is refused and named, not widened',
    async (scope) => {
      const visitor = await signedIn('administrator')
      for (const path of ['saves', 'summary', 'export.csv']) {
        const answer = await problem(await visitor.send('GET', `/changes/${path}?scope=${encodeURIComponent(scope)}`))
        expect(answer.code).toBe('bad-scope')
        expect(answer.pieces!.length).toBeGreaterThan(0)
      }
    },
  )

  it.each([
    ['GET', '/changes/saves/0'],
    ['GET', '/changes/saves/abc'],
    ['GET', '/changes/saves?limit=9999'],
    ['GET', '/changes/saves?after=x'],
    ['GET', '/changes/export.csv?columns=password'],
    ['GET', '/changes/export.csv?zone=Nowhere'],
    ['POST', '/corrections'],
  ])('%s %s is a bad request in words', async (method, path) => {
    const visitor = await signedIn('administrator')
    const response = await visitor.send(method, path, {})
    expect(response.status).toBe(400)
    expect(response.headers.get('content-type')).toContain('application/problem+json')
    expect((await problem(response)).detail).not.toBe('')
  })

  it('an unknown path of the API is a problem too, and broken JSON', async () => {
    const visitor = await signedIn('administrator')
    expect((await problem(await visitor.send('GET', '/nothing'))).code).toBe('not-found')
    const response = await fetch(`${base}/api/v1/corrections`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', cookie: visitor.cookie, 'x-spoor-token': visitor.token },
      body: '{',
    })
    expect((await problem(response)).code).toBe('bad-request')
  })

  it('every page carries a strict content security policy', async () => {
    const policy = (await fetch(`${base}/healthz`)).headers.get('content-security-policy')!
    expect(policy).toContain(`default-src 'none'`)
    expect(policy).toContain(`script-src 'self';`)
    expect(policy).not.toMatch(/script-src[^;]*unsafe/)
  })
})

describe('values of every sort', () => {
  const exported = async (query = '') => {
    const visitor = await signedIn('administrator')
    const response = await visitor.send('GET', `/changes/export.csv?${query}`)
    expect(response.headers.get('content-type')).toContain('text/csv')
    return await response.text()
  }

  it('come back from the CSV exactly, and none begins like a formula', async () => {
    const rows = parse(await exported('scope=who%3Dk.unknown'), { columns: true }) as Record<string, string>[]
    const changes = rows.filter((row) => row['action'] === 'change')
    for (const [at, [, value]] of hostile.entries()) {
      const row = changes.find((one) => one['record key'] === `["${at}"]`)!
      const cell = row['after']!
      expect(cell).not.toMatch(/^[=+@\t\r]/)
      const back = cell.startsWith("'") ? cell.slice(1) : cell
      expect(back).toBe(value ?? '')
    }
  })

  it('NULL is an empty cell, empty text a quoted one', async () => {
    const text = await exported('columns=key,after&scope=who%3Dk.unknown')
    expect(text).toContain(`"[""9""]",""\r\n`)
    expect(text).toContain(`"[""11""]",\r\n`)
  })

  it('stand in the export with the columns asked for, times with their zone', async () => {
    const text = await exported('columns=time,field&zone=Asia/Kolkata')
    const [head, first] = text.split('\r\n')
    expect(head).toBe('"time","field"')
    expect(first).toMatch(/^"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d+\+05:30","word"$/)
  })

  it('are written down as taken out in words, without those that were asked for', async () => {
    const { id } = (await world.db('spoor.record_type').where({ table_name: 'note' }).first<{ id: number }>('id'))!
    await exported(`scope=${encodeURIComponent(`what=t${id}&when=last7d@UTC&value=has.tis`)}`)
    const [event] = await world
      .db('ledger.event')
      .where({ kind: 'export' })
      .orderBy('id', 'desc')
      .pluck<string[]>('words')
    expect(event).toBe(
      'took changes out as CSV: Changes to notes by anyone, in the last 7 days (UTC), of certain values only.',
    )
  })

  it('are cut in lists, told by their beginning in the opened save, and whole when one is asked for', async () => {
    const visitor = await signedIn('administrator')
    const { saves } = (await (await visitor.send('GET', '/changes/saves?limit=200')).json()) as {
      saves: { id: string; key: string; action: string; changes: { after: string; afterCut: boolean }[] }[]
    }
    const long = saves.find((save) => save.key === '["10"]' && save.action === 'change')!
    expect(long.changes[0]).toMatchObject({ afterCut: true })
    expect(long.changes[0]!.after.length).toBe(300)
    const { save, sizes } = (await (await visitor.send('GET', `/changes/saves/${long.id}`)).json()) as {
      save: { changes: { fieldId: number; after: string; afterCut: boolean }[] }
      sizes: Record<string, unknown>
    }
    const [change] = save.changes
    expect(change).toMatchObject({ after: 'x'.repeat(20_000), afterCut: true })
    expect(sizes[change!.fieldId]).toMatchObject({ after: 100_000 })
    const value = (side: string, fieldId: number = change!.fieldId) =>
      visitor.send('GET', `/changes/saves/${long.id}/values/${fieldId}?side=${side}`)
    const whole = await value('after')
    expect(whole.headers.get('content-type')).toBe('text/plain; charset=utf-8')
    expect(whole.headers.get('content-disposition')).toContain('attachment')
    expect(await whole.text()).toBe('x'.repeat(100_000))
    expect((await value('after', 999_999)).status).toBe(404)
    expect((await value('sideways')).status).toBe(400)
  })

  it.each([
    ['=1', "'=1"],
    ['-5', '-5'],
    ['-5+1', "'-5+1"],
    ['+44', '+44'],
    ["'x", "''x"],
    ['plain', 'plain'],
    ['\t=x', "'\t=x"],
    [' =1', "' =1"],
    ['\u00a0@x', "'\u00a0@x"],
    ['\u200b+x', "'\u200b+x"],
    ['＝1+1', "'＝1+1"],
    ['−1', "'−1"],
    [' plain', ' plain'],
    ['', ''],
  ])('%j is written as %j', (value, cell) => expect(inert(value)).toBe(cell))
})

describe('the contract', () => {
  it('is described as OpenAPI with every operation', async () => {
    const api = (await (await fetch(`${base}/api/v1/openapi.json`)).json()) as {
      openapi: string
      paths: Record<string, Record<string, { operationId: string }>>
    }
    expect(api.openapi).toBe('3.1.0')
    const ids = Object.values(api.paths).flatMap((path) =>
      Object.values(path).map((operation) => operation.operationId),
    )
    expect(ids.sort()).toEqual(Object.keys(routes).sort())
  })

  it('has no problem without a title and a status of its kind', () => {
    for (const { status, title } of Object.values(problems)) {
      expect(status).toBeGreaterThanOrEqual(400)
      expect(title).not.toBe('')
    }
  })

  it('sends scripts as they lie compressed, to whoever takes them so, and to others plain', async () => {
    const page = await (await fetch(`${base}/today`)).text()
    const script = /src="(\/assets\/[^"]+\.js)"/.exec(page)![1]!
    const sent = async (encoding: string) => {
      const response = await fetch(`${base}${script}`, { headers: { 'accept-encoding': encoding } })
      expect(response.headers.get('cache-control')).toContain('immutable')
      return { encoding: response.headers.get('content-encoding'), text: await response.text() }
    }
    const plain = await sent('identity')
    expect(plain.encoding).toBeNull()
    expect(await sent('br')).toEqual({ encoding: 'br', text: plain.text })
    expect(await sent('gzip')).toEqual({ encoding: 'gzip', text: plain.text })
    expect((await fetch(`${base}/assets/none.js`)).status).toBe(404)
  })

  it('health, readiness and metrics answer without a session', async () => {
    expect(await (await fetch(`${base}/healthz`)).text()).toBe('alive\n')
    expect(await (await fetch(`${base}/readyz`)).text()).toBe('ready\n')
    expect(await (await fetch(`${base}/metrics`)).text()).toMatch(/spoor_collector_waiting_rows\{source="business"\} 0/)
  })
})
