import { fork } from 'node:child_process'
import { writeFileSync } from 'node:fs'
import { createServer } from 'node:net'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { connect, People } from '@spoor/server'
import { roleNames } from '@spoor/contract'
import { Desk } from './desk/desk.ts'
import { demoPeople } from './people.ts'
import { demoNames, DemoRefusal, ensureBusiness, ensureDatabases, urlOf } from './set-up/databases.ts'
import { readSecrets, type Secrets } from './set-up/secrets.ts'

export interface DemoOptions {
  /** The cluster as a superuser. */
  clusterUrl: string
  dataDir: string
  port: number
  small: boolean
  reset: boolean
  quiet: boolean
  say(line: string): void
}

export interface RunningDemo {
  stop(): Promise<void>
  /** Resolves when the application ends by itself, which it should not. */
  ended: Promise<void>
}

/** Starts Larkmere, Spoor and the stand-ins on a running cluster and says where they are. */
export async function startDemo(options: DemoOptions): Promise<RunningDemo> {
  const { clusterUrl, dataDir, port, say } = options
  await demandFree(port)
  const secrets = readSecrets(dataDir)
  const names = demoNames(process.env['SPOOR_DATABASE_URL'] ? port : 4310)
  const login = (base: keyof Secrets) => ({ name: names.role(base), password: secrets[base] })
  if (await ensureDatabases(clusterUrl, names, secrets, options.reset))
    say('Making Larkmere, the demo’s business database')
  await ensureBusiness(urlOf(clusterUrl, names.business), names)

  const spoorUrl = urlOf(clusterUrl, names.spoor, login('spoor_app'))
  const server = await startApplication({
    SPOOR_PORT: String(port),
    SPOOR_DATA_DIR: dataDir,
    SPOOR_DATABASE_URL: spoorUrl,
    SPOOR_OWNER_DATABASE_URL: urlOf(clusterUrl, names.spoor, login('spoor_owner')),
    SPOOR_SOURCE_NAME: 'Larkmere business database',
    SPOOR_SOURCE_URL: urlOf(clusterUrl, names.business, login('spoor_source')),
    SPOOR_SOURCE_DECLARING_LOGINS: names.role('desk_app'),
    SPOOR_LOG_LEVEL: process.env['SPOOR_LOG_LEVEL'] ?? 'warn',
  })
  await addPeople(spoorUrl)

  const desk = new Desk(urlOf(clusterUrl, names.business, login('desk_app')))
  const deskAddress = await desk.listen(await freePort(port + 1))
  const addresses = { application: server.address, desk: deskAddress }
  writeFileSync(
    join(dataDir, 'demo.json'),
    JSON.stringify(
      {
        ...addresses,
        databases: { spoor: urlOf(clusterUrl, names.spoor), business: urlOf(clusterUrl, names.business) },
        signIns: Object.fromEntries(
          demoPeople.map(({ login: name, password, role }) => [role, { login: name, password }]),
        ),
      },
      null,
      2,
    ),
    { mode: 0o600 },
  )
  say(`
  Spoor      ${addresses.application}
  The desk   ${addresses.desk}   (a stand-in for the business application)

  Sign in to Spoor as
${demoPeople.map((person) => `    ${person.login.padEnd(8)} ${person.password.padEnd(18)} ${roleNames[person.role]}`).join('\n')}

  Ctrl-C stops everything.`)
  return {
    ended: server.ended,
    stop: async () => {
      await desk.close()
      await server.stop()
    },
  }
}

async function demandFree(port: number): Promise<void> {
  if ((await probe(port)) === null)
    throw new DemoRefusal(
      `Port ${port} is in use by another program. Set SPOOR_PORT to a free one, for example: SPOOR_PORT=${port + 10} npm run demo`,
    )
}

async function freePort(preferred: number): Promise<number> {
  return (await probe(preferred)) ?? (await probe(0))!
}

function probe(port: number): Promise<number | null> {
  return new Promise((done) => {
    const server = createServer()
    server.once('error', () => done(null))
    server.listen(port, '127.0.0.1', () => {
      const bound = server.address()
      server.close(() => done(typeof bound === 'object' && bound ? bound.port : null))
    })
  })
}

async function startApplication(
  env: Record<string, string>,
): Promise<{ address: string; ended: Promise<void>; stop(): Promise<void> }> {
  const main = fileURLToPath(new URL('../../server/dist/main.js', import.meta.url))
  // Its own process group: Ctrl-C in a terminal reaches the demo, which stops things in order.
  const child = fork(main, {
    env: { ...process.env, ...env },
    detached: true,
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
  })
  let stopping = false
  const ended = new Promise<void>((done) => child.once('exit', done))
  const address = await new Promise<string>((done, fail) => {
    child.once('message', (message: { ready: string }) => done(message.ready))
    child.once('exit', (code) =>
      fail(
        new DemoRefusal(`The application ended before it was ready (exit code ${code}); its own words stand above.`),
      ),
    )
  })
  return {
    address,
    ended: ended.then(() => (stopping ? new Promise<void>(() => undefined) : undefined)),
    stop: async () => {
      stopping = true
      if (child.exitCode === null) child.kill('SIGTERM')
      await ended
    },
  }
}

async function addPeople(spoorUrl: string): Promise<void> {
  const db = connect(spoorUrl, { applicationName: 'spoor demo', maxConnections: 1 })
  try {
    const people = new People(db)
    for (const person of demoPeople) await people.add(person)
  } finally {
    await db.destroy()
  }
}
