import { request as httpRequest } from 'node:http'
import * as v from 'valibot'
import { pino } from 'pino'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { routes, type RouteShape } from '@spoor/contract'
import { addApplication } from '../src/panel/applications.ts'
import { makeTicket } from '../src/panel/tickets.ts'
import { serve, Visitor, type Served } from './browser.ts'
import { makeWorld, track, type World } from './support.ts'

/**
 * Every route is asked with what nobody meant, made from the contract's own schemas: nothing may end in a 5xx. Each place gets a
 * third of it, each next place the next third; `npm run test:faults` puts all of it everywhere.
 */
const parts = process.env['SPOOR_FUZZ'] === 'whole' ? 1 : 3
let turn = 0
function* share<T>(all: readonly T[]): Generator<T> {
  turn++
  for (const [at, one] of all.entries()) if ((at + turn) % parts === 0) yield one
}

let world: World
let served: Served
let visitor: Visitor
/** What the server logged of a failure: the cause of a 5xx. */
const causes: string[] = []

beforeAll(async () => {
  world = await makeWorld('create table public.note (id int primary key, word text)')
  await track(world, { note: ['word'] })
  await world.business.query(`insert into note values (1, 'a'); update note set word = 'b'`)
  await world.collect()
  served = await serve(world, { log: pino({ level: 'error' }, { write: (line) => void causes.push(line) }) })
  visitor = await new Visitor(served.base.replace(/\/api\/v1$/, '')).arrive()
  expect((await visitor.signIn('ada', 'password of ada')).status).toBe(200)
  // Panels are asked for with a key and a ticket instead of a session.
  const { key } = await addApplication(world.db, { name: 'asked', origin: 'https://asked.example' }, world.adminId)
  const { ticket } = await makeTicket(world.db, key, { user: 'ada', table: 'public.note', key: ['1'] })
  bearerOf = { makePanelTicket: key, readPanelStory: ticket }
})
let bearerOf: Readonly<Record<string, string>> = {}
afterAll(async () => {
  await served.close()
  await world.close()
})

const texts = [
  '\0',
  'a\0b',
  '',
  ' ',
  '9223372036854775807',
  '9223372036854775808',
  '99999999999999999999',
  '2147483648',
  '999999999',
  '-1',
  '1.5',
  '1e3',
  '0x10',
  '٣',
  '2026-02-31',
  '2026-02-30..2026-02-31',
  '0000-01-01',
  '0000-01-01..',
  '9999-12-31',
  '..9999-12-31',
  '10000-01-01',
  '2026-02-31T10:00:00Z',
  '0000-01-01T00:00:00Z',
  '9999-12-31T23:59:59.999999Z',
  '2026-01-01T24:00:01Z',
  '2026-13-01T00:00:00Z',
  'Nowhere/Nothing',
  'Etc/GMT+99',
  '%',
  '%FF',
  '%00',
  '\ud800',
  'x'.repeat(6000),
  '{"a":1}',
  '["1"]',
  '[[]]',
  '[null]',
  'null',
  'true',
  `';--`,
  '../..',
  '\\',
  '*',
  '(',
  '[',
  '1 1',
  '1,2',
  'eyJhIjoxfQ',
  'W10',
  'bnVsbA',
  'WyIyMDI2LTAyLTMxIiwiMSJd',
]
/** Parts of a scope, each to be filled with hostile texts. */
const scopeParts = [
  'when=',
  'when=e.',
  'who=',
  'who=k.',
  'what=',
  'what=f',
  'what=t',
  'record=',
  'value=',
  'how=',
  'state=',
  'reason=',
  'x=',
]
const values: unknown[] = [
  ...texts,
  2 ** 53,
  2 ** 63,
  2 ** 31,
  -1,
  1.5,
  1e308,
  0,
  null,
  true,
  [],
  {},
  [null],
  [[]],
  { a: null },
  Array.from({ length: 2000 }, () => 1),
]

type Schema = v.GenericSchema & {
  type: string
  entries?: Record<string, Schema>
  item?: Schema
  wrapped?: Schema
  pipe?: Schema[]
  options?: (Schema | string)[]
}

const usual: unknown[] = [
  '1',
  1,
  'a',
  'abc',
  'abc abc abc abc',
  true,
  null,
  [],
  ['1'],
  [1],
  {},
  '2026-01-01',
  '2026-01-01T00:00:00Z',
  'Europe/London',
  'postgresql://a:b@127.0.0.1:1/c',
  'ldap://127.0.0.1:1',
  '2026-01-01..2026-02-01',
  'saves',
  // What is in the address of a link.
  'A'.repeat(43),
]

/** A value that a schema takes; undefined where none is found. */
function sample(schema: Schema): unknown {
  const takes = (value: unknown) => v.safeParse(schema, value).success
  if (schema.entries) {
    const made = Object.fromEntries(Object.entries(schema.entries).map(([name, entry]) => [name, sample(entry)]))
    if (takes(made)) return made
  }
  if (schema.type === 'picklist') return schema.options![0]
  if (schema.type === 'array' && schema.item) {
    const made = [sample(schema.item)]
    if (takes(made)) return made
  }
  if (schema.wrapped) return sample(schema.wrapped)
  for (const option of schema.options ?? []) {
    const made = typeof option === 'string' ? option : sample(option)
    if (takes(made)) return made
  }
  return usual.find(takes)
}

/** The schema's value with one hostile thing somewhere in it, once for each place and thing. */
function* spoiled(schema: Schema, within: readonly unknown[]): Generator<unknown> {
  const whole = sample(schema)
  if (schema.entries && typeof whole === 'object' && whole !== null) {
    for (const [name, entry] of Object.entries(schema.entries))
      for (const bad of spoiled(entry, within)) yield { ...whole, [name]: bad }
    return
  }
  const inner = schema.wrapped ?? (schema.type === 'array' ? schema.item : undefined)
  if (inner?.entries || schema.type === 'array')
    for (const bad of spoiled(inner!, within)) yield schema.type === 'array' ? [bad] : bad
  yield* share(within)
}

interface Asked {
  method: string
  path: string
  body?: unknown
}

const fillIn = (path: string, params: Record<string, unknown>) =>
  path.replace(/:(\w+)/g, (_, name: string) => encodeURIComponent(wellFormed(String(params[name] ?? '1'))))
const wellFormed = (text: string) => text.replace(/[\ud800-\udfff]/g, '\ufffd')
const queryOf = (query: Record<string, unknown>) =>
  new URLSearchParams(
    Object.entries(query).flatMap(([name, value]): [string, string][] =>
      value === undefined || value === null ? [] : [[name, typeof value === 'string' ? value : JSON.stringify(value)]],
    ),
  ).toString()

function* asked(shape: RouteShape): Generator<Asked> {
  const { method, path } = shape
  const [params, query, body] = [shape.params, shape.query, shape.body] as (Schema | undefined)[]
  const goodPath = fillIn(path, (params ? sample(params) : {}) as Record<string, unknown>)
  const goodBody = body ? sample(body) : undefined
  if (params)
    for (const bad of spoiled(params, texts))
      yield { method, path: fillIn(path, bad as Record<string, unknown>), body: goodBody }
  if (query) {
    const good = sample(query) as Record<string, unknown>
    for (const bad of spoiled(query, texts))
      yield { method, path: `${goodPath}?${queryOf(bad as Record<string, unknown>)}`, body: goodBody }
    if (query.entries?.['scope'])
      for (const part of scopeParts)
        for (const text of share(texts))
          yield {
            method,
            path: `${goodPath}?${queryOf({ ...good, scope: `${part}${encodeURIComponent(wellFormed(text))}` })}`,
          }
  }
  if (body) for (const bad of spoiled(body, values)) yield { method, path: goodPath, body: bad }
}

/** Asked as it stands, whatever is wrong with the address. */
function raw(path: string): Promise<number> {
  const { hostname, port } = new URL(served.base)
  return new Promise((done, fail) => {
    const sent = httpRequest({ hostname, port, path, headers: { cookie: visitor.cookie } }, (response) => {
      response.resume()
      done(response.statusCode ?? 0)
    })
    sent.on('error', fail)
    sent.end()
  })
}

// What ends the session, streams without end, or goes out to other machines is asked by tests of its own.
const leftOut = new Set([
  'signOut',
  'signIn',
  'changeOwnPassword',
  'followPulse',
  'checkSource',
  'addSource',
  'changeSource',
  'changePerson',
  'readLdap',
  'loadLdap',
])
const shapes = Object.entries<RouteShape>(routes).filter(([name]) => !leftOut.has(name))

it.each(shapes)('%s', { timeout: 120_000 }, async (name, shape) => {
  const wrong: unknown[] = []
  const bearer = bearerOf[name]
  const headers = bearer === undefined ? {} : { authorization: `Bearer ${bearer}` }
  for (const { method, path, body } of asked(shape)) {
    const response = await visitor.send(method, path, body, headers)
    const text = await response.text()
    // 502 and 503 are words about a source or a database, not a failure of Spoor's.
    if (response.status >= 500 && ![502, 503].includes(response.status))
      wrong.push({ path: path.slice(0, 300), body, cause: causes.at(-1)?.slice(0, 500) ?? text })
    expect(response.status, `${method} ${path}`).not.toBe(401)
  }
  expect(wrong.slice(0, 8), `${wrong.length} requests`).toEqual([])
})

it.each(['[', '{"a":'])('a body nested very deeply: %s', async (open) => {
  const close = open === '[' ? ']' : '}'
  for (const [, { method, path }] of shapes.filter(([, shape]) => shape.body).slice(0, 6)) {
    const response = await fetch(`${served.base}${fillIn(path, {})}`, {
      method,
      headers: { 'content-type': 'application/json', cookie: visitor.cookie, 'x-spoor-token': visitor.token },
      body: `${open.repeat(200_000)}1${close.repeat(200_000)}`,
    })
    expect([path, response.status < 500]).toEqual([path, true])
    await response.body?.cancel()
  }
})

it.each([
  '/%',
  '/%FF',
  '/api/v1/%',
  '/api/v1/changes/saves/%FF',
  '/api/v1/changes/saves?scope=%',
  '/api/v1/changes/saves?scope=%FF',
  '/api/v1//',
  '//',
  '/\\',
  '/api/v1/changes/saves?scope=a&scope=b',
  '/api/v1/changes/saves?scope[]=a',
  '/api/v1/changes/saves?__proto__=a',
  '/assets/%00',
  '/assets/..%2f..%2fpackage.json',
])('a malformed address: %s', async (path) => {
  expect(await raw(path)).toBeLessThan(500)
})
