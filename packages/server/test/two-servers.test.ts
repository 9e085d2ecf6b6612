import { spawn, type ChildProcess } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import pg from 'pg'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { LedgerCheck } from '../src/custody/check.ts'
import { SliceThreads } from '../src/custody/slices.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { evidenceKey } from '../src/evidence/evidence.ts'
import { Vault } from '../src/secret.ts'
import { urlFor } from './names.ts'
import { ledger, makeWorld, spoorUrlOf, track, type World } from './support.ts'

/** Two servers as two processes on one ledger, the leading one killed: nothing may be lost or taken twice. */
let world: World
let dataDir: string
const servers: ChildProcess[] = []

beforeAll(async () => {
  dataDir = mkdtempSync(join(tmpdir(), 'spoor-two-'))
  const vault = Vault.open(dataDir)
  world = await makeWorld('create table public.account (id int primary key, balance int not null)', vault)
  await track(world, { account: ['balance'] })
  await world.business.query('insert into account select g, 0 from generate_series(1, 20) g')
})
afterAll(async () => {
  for (const server of servers) server.kill('SIGKILL')
  await world.close()
  rmSync(dataDir, { recursive: true })
})

async function startServer(): Promise<ChildProcess> {
  const server = spawn(process.execPath, [join(import.meta.dirname, '../dist/main.js')], {
    env: {
      ...process.env,
      SPOOR_PORT: '0',
      SPOOR_DATA_DIR: dataDir,
      SPOOR_DATABASE_URL: spoorUrlOf(world, 'spoor_test_app'),
      SPOOR_OWNER_DATABASE_URL: spoorUrlOf(world, 'spoor_test_owner'),
      SPOOR_ERASURE_DATABASE_URL: spoorUrlOf(world, 'spoor_test_eraser'),
      SPOOR_COLLECT_EVERY_MS: '20',
      SPOOR_SEAL_EVERY_MS: '100',
      SPOOR_LOG_LEVEL: 'error',
    },
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
  })
  servers.push(server)
  await new Promise<void>((done, fail) => {
    server.once('message', () => done())
    server.once('exit', (code) => fail(new Error(`the server ended with code ${code}`)))
  })
  return server
}

/** The process that holds the duty to collect. */
async function leaderPid(): Promise<number | undefined> {
  const { rows } = await world.db.raw<{ rows: { client_port: number }[] }>(
    `select a.client_port from pg_locks l join pg_stat_activity a using (pid)
      where l.locktype = 'advisory' and l.granted and a.datname = current_database() and a.application_name = 'spoor'`,
  )
  return rows[0]?.client_port
}

it('hands the collecting over when the process that leads is killed', async () => {
  const first = await startServer()
  await expect.poll(leaderPid).toBeDefined()
  const before = await leaderPid()
  await startServer()
  let committed = 20
  let working = true
  const work = async () => {
    while (working) {
      await world.business.query('update account set balance = balance + 1 where id = $1', [1 + (committed % 20)])
      committed++
    }
  }
  const load = work()
  await sleep(500)
  first.kill('SIGKILL')
  await expect.poll(leaderPid, { timeout: 10_000 }).not.toBe(before)
  await sleep(500)
  working = false
  await load
  await expect
    .poll(async () => (await ledger(world)).length, { timeout: 15_000, interval: 200 })
    .toBeGreaterThanOrEqual(committed)
  const saves = await ledger(world)
  expect(saves).toHaveLength(committed)
  const { rows } = await world.business.query<{ sum: string }>('select sum(balance) from account')
  expect(saves.filter((save) => save.action === 'change')).toHaveLength(Number(rows[0]!.sum))
})

const seals = () =>
  world.db('ledger.seal').orderBy('number').select<{ number: string; size: string }[]>('number', 'size')
const sealedUpTo = async () => Number((await seals()).at(-1)?.size ?? 0)

async function whatDoesNotMatch(): Promise<string[]> {
  const [row] = await world.db('spoor.ledger_check').insert({ total: 0 }).returning<{ id: number }[]>('id')
  const slices = new SliceThreads(world.spoorUrl, 2)
  const check = new LedgerCheck({
    db: world.db,
    outside: new OutsideSeals(dataDir),
    evidenceKey: evidenceKey(Vault.open(dataDir)),
    slices,
    checkId: row!.id,
    hurried: () => true,
    onProgress: () => Promise.resolve(),
  })
  await check.check().finally(() => slices.close())
  return await world.db('spoor.alarm').pluck<string[]>('words')
}

it('both seal in turn without a fork', async () => {
  const saves = (await ledger(world)).length
  await expect.poll(sealedUpTo, { timeout: 15_000, interval: 200 }).toBe(saves)
  expect((await seals()).map(({ number }) => Number(number))).toEqual((await seals()).map((_, at) => at + 1))
  expect(await whatDoesNotMatch()).toEqual([])
})

it('a server killed while it seals leaves no seal without its leaves, and no leaves that are never sealed', async () => {
  const superuser = new pg.Client({ connectionString: urlFor(world.superuserUrl, world.names.spoor) })
  await superuser.connect()
  const before = await seals()
  const nodes = async () => Number((await superuser.query('select count(*) from ledger.node')).rows[0].count)
  const nodesBefore = await nodes()
  // Nodes are written and the seal is being: there it stays until it is killed.
  await superuser.query(
    `create function public.linger() returns trigger language plpgsql as 'begin perform pg_sleep(60); return new; end'; create trigger linger before insert on ledger.seal for each row execute function public.linger()`,
  )
  for (let n = 0; n < 30; n++) await world.business.query('update account set balance = balance + 1')
  const sealing = async () =>
    (
      await superuser.query(
        `select pid from pg_stat_activity where datname = current_database() and wait_event = 'PgSleep' and query like 'insert into "ledger"."seal"%'`,
      )
    ).rowCount
  await expect.poll(sealing, { timeout: 15_000, interval: 100 }).toBe(1)
  for (const server of servers) server.kill('SIGKILL')
  await superuser.query(
    `select pg_terminate_backend(pid) from pg_stat_activity where wait_event = 'PgSleep' and datname = current_database()`,
  )
  await expect.poll(sealing).toBe(0)
  expect(await seals()).toEqual(before)
  expect(await nodes()).toBe(nodesBefore)
  await superuser.query('drop trigger linger on ledger.seal; drop function public.linger()')
  await superuser.end()
  await startServer()
  const { rows } = await world.business.query<{ sum: string }>('select sum(balance) from account')
  const saves = 20 + Number(rows[0]!.sum)
  await expect.poll(sealedUpTo, { timeout: 20_000, interval: 200 }).toBe(saves)
  expect(await whatDoesNotMatch()).toEqual([])
}, 60_000)
