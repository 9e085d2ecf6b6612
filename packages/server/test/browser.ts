import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import pg from 'pg'
import { createApp } from '../src/app.ts'
import { PulseSource } from '../src/pulse/pulse.ts'
import { urlFor } from './names.ts'
import { silentLog, type World } from './support.ts'

export interface Served {
  base: string
  close(): Promise<void>
}

/** A world's application on a port of its own. */
export async function serve(world: World): Promise<Served> {
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
    log: silentLog,
    https: false,
    onSourceAdded: () => Promise.resolve(),
    webDirectory: '/nowhere',
    connectEraser: world.connectEraser,
  })
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
