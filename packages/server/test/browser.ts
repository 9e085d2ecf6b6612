import { join } from 'node:path'
import { createServer } from 'node:http'
import { tmpdir } from 'node:os'
import type { AddressInfo } from 'node:net'
import pg from 'pg'
import type { Logger } from 'pino'
import { createApp } from '../src/app.ts'
import type { FirstPerson } from '../src/people/first-person.ts'
import { Correcting } from '../src/corrections/correcting.ts'
import { NoticingTrials } from '../src/noticing/trial.ts'
import { PulseSource } from '../src/pulse/pulse.ts'
import { Installing } from '../src/tracking/installing.ts'
import { Work } from '../src/work/work.ts'
import { urlFor } from './names.ts'
import { silentLog, type World } from './support.ts'

export interface Served {
  base: string
  close(): Promise<void>
}

/** A world's application on a port of its own. */
export async function serve(
  world: World,
  options: { https?: boolean; log?: Logger; first?: FirstPerson; packsDirectory?: string } = {},
): Promise<Served> {
  const pool = new pg.Pool({
    connectionString: urlFor(world.superuserUrl, world.names.spoor, 'spoor_test_app'),
    max: 4,
  })
  const app = createApp({
    db: world.db,
    sessionPool: pool,
    sessionSecret: 'test',
    sources: world.sources,
    pulse: new PulseSource(world.db, silentLog),
    log: options.log ?? silentLog,
    https: options.https ?? false,
    trustedProxies: ['loopback'],
    onSourceAdded: () => Promise.resolve(),
    webDirectory: join(import.meta.dirname, '../../web/dist'),
    connectEraser: world.connectEraser,
    timeAuthority: null,
    vault: world.vault,
    mayMail: true,
    packsDirectory: options.packsDirectory ?? join(tmpdir(), 'spoor-without-packs'),
    ...(options.first ? { first: options.first } : {}),
  })
  const work = new Work({
    db: world.db,
    databaseUrl: world.spoorUrl,
    log: silentLog,
    handlers: [
      new NoticingTrials(world.db),
      new Installing(world.db, world.sources),
      new Correcting(world.db, world.sources),
    ],
  })
  await work.start()
  const server = createServer(app)
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  return {
    base: `http://127.0.0.1:${(server.address() as AddressInfo).port}/api/v1`,
    async close() {
      await new Promise<void>((done) => {
        server.close(() => done())
        // Followers of the pulse never hang up by themselves.
        server.closeAllConnections()
      })
      await work.stop()
      await pool.end()
    },
  }
}

type Answer = { token?: string; code?: string } & Record<string, unknown>

/** A signed-in browser, as far as the API is concerned. */
export async function signIn({ base }: Served, login: string, password: string) {
  let cookie = ''
  let token = ''
  const ask = async (method: string, path: string, body?: unknown) => {
    const response = await fetch(`${base}${path}`, {
      method,
      headers: { cookie, 'content-type': 'application/json', 'x-spoor-token': token },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    })
    cookie = response.headers.get('set-cookie')?.split(';')[0] ?? cookie
    return response
  }
  /** A file as text. */
  const text = async (path: string) => (await ask('GET', path)).text()
  const send = async (method: string, path: string, body?: unknown) => {
    const response = await ask(method, path, body)
    const answer = (await response.json()) as Answer
    token = answer.token ?? token
    return { status: response.status, answer }
  }
  await send('GET', '/session')
  const { status, answer } = await send('POST', '/session', { login, password })
  return { status, answer, send, text }
}

/** A browser that may sign in or not, with whatever headers. */
export class Visitor {
  cookie = ''
  token = ''
  readonly #base: string

  /** @param base the address of the server */
  constructor(base: string) {
    this.#base = base
  }

  async send(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<Response> {
    const response = await fetch(`${this.#base}/api/v1${path}`, {
      method,
      headers: { 'content-type': 'application/json', cookie: this.cookie, 'x-spoor-token': this.token, ...headers },
      ...(method === 'GET' ? {} : { body: JSON.stringify(body ?? {}) }),
    })
    const cookie = response.headers.getSetCookie().find((one) => one.startsWith('spoor.session='))
    if (cookie) this.cookie = cookie.split(';')[0]!
    return response
  }

  async arrive(): Promise<this> {
    this.token = ((await (await this.send('GET', '/session')).json()) as { token: string }).token
    return this
  }

  async signIn(login: string, password = `password of ${login}`): Promise<Response> {
    const response = await this.send('POST', '/session', { login, password })
    if (response.ok) this.token = ((await response.clone().json()) as { token: string }).token
    return response
  }
}
