#!/usr/bin/env node
import { spawn } from 'node:child_process'
import { rmSync } from 'node:fs'
import { createRequire } from 'node:module'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { freePort, startCluster } from './lib/cluster.mjs'
import { ensureBuilt, prepare, root } from './lib/prepare.mjs'
import { programOf } from './lib/process.mjs'
import { run, say } from './lib/say.mjs'
import { Told } from './lib/told.mjs'

/**
 * Kills the server, PostgreSQL, whoever takes mail and posts, or several of them with SIGKILL at random moments under load,
 * again and again, and then counts: every committed change must be in the ledger once, and every run of them told of once in
 * Spoor, and at least once with one identity by mail and to a program. `npm run test:faults -- 10` does it ten times.
 */

const times = Number(process.argv[2] ?? 200)
const accounts = 40
const workers = 6
/** So many transactions of one worker are one run. */
const runLength = 5
const dataDir = join(root, '.spoor-faults')

const kill = async (pid) => {
  process.kill(pid, 'SIGKILL')
  while (programOf(pid) !== null) await sleep(10)
}

async function startServer(spoorUrl, port, mailPort) {
  const child = spawn(process.execPath, [join(root, 'packages/server/dist/main.js')], {
    env: {
      ...process.env,
      SPOOR_PORT: String(port),
      SPOOR_DATA_DIR: dataDir,
      SPOOR_DATABASE_URL: spoorUrl,
      SPOOR_LOG_LEVEL: 'silent',
      SPOOR_COLLECT_EVERY_MS: '50',
      SPOOR_SEAL_EVERY_MS: '100',
      SPOOR_MAIL_URL: `smtp://127.0.0.1:${mailPort}`,
    },
    stdio: 'ignore',
  })
  return child
}

async function startDatabase() {
  for (let tries = 0; ; tries++) {
    try {
      return await startCluster({ dataDir, settings: ['max_connections=100'] })
    } catch (error) {
      // The backends of a killed postmaster need a moment to notice.
      if (tries > 20) throw error
      await sleep(300)
    }
  }
}

/** Checks the whole ledger against its seals, and those kept outside it. */
async function placesThatDoNotMatch(spoorUrl) {
  const { connect } = await import('../packages/server/dist/database/knex.js')
  const { LedgerCheck } = await import('../packages/server/dist/custody/check.js')
  const { OutsideSeals } = await import('../packages/server/dist/custody/outside.js')
  const { SliceThreads } = await import('../packages/server/dist/custody/slices.js')
  const { Vault } = await import('../packages/server/dist/secret.js')
  const { evidenceKey, sealsFacts } = await import('../packages/server/dist/evidence/evidence.js')
  const vault = Vault.open(dataDir)
  const db = connect(spoorUrl, {
    applicationName: 'spoor faults',
    maxConnections: 2,
    own: true,
    beforeCommit: sealsFacts(vault),
  })
  const slices = new SliceThreads(spoorUrl)
  try {
    const [row] = await db('spoor.ledger_check').insert({ total: 0 }).returning('id')
    const check = new LedgerCheck({
      db,
      outside: new OutsideSeals(dataDir),
      evidenceKey: evidenceKey(vault),
      slices,
      checkId: row.id,
      hurried: () => true,
      onProgress: () => Promise.resolve(true),
    })
    await check.check()
    return await db('spoor.alarm').where({ code: 'ledger-altered' }).pluck('words')
  } finally {
    await slices.close()
    await db.destroy()
  }
}

run(async () => {
  prepare()
  ensureBuilt()
  const pg = createRequire(join(root, 'packages/server/package.json'))('pg')
  const { makeWorld } = await import('../bench/world.mjs')
  const { Vault } = await import('../packages/server/dist/secret.js')
  rmSync(dataDir, { recursive: true, force: true })
  let cluster = await startDatabase()
  const world = await makeWorld(
    cluster,
    `create table public.account (id int primary key, balance int not null default 0); insert into public.account select g from generate_series(1, ${accounts}) g;
     create table public.deed (run text not null)`,
    Vault.open(dataDir),
  )
  await world.track({ account: ['balance'] })
  const { spoorUrl, businessUrl } = world
  const told = new Told(dataDir)
  await told.start()
  await told.watch(world)
  await world.letGo()
  const port = await freePort()
  const start = () => startServer(spoorUrl, port, told.ports.mail)
  let server = await start()
  let working = true
  let committed = 0
  const work = async (seed) => {
    for (let i = 0; working; i++) {
      const client = new pg.Client({ connectionString: businessUrl, connectionTimeoutMillis: 1000 })
      client.on('error', () => undefined)
      try {
        await client.connect()
        for (; working; i++) {
          await client.query('begin')
          const run = `of ${seed}, ${Math.floor(i / runLength)}`
          await client.query(`select set_config('spoor.context', $1, true)`, [JSON.stringify({ run })])
          await client.query('insert into public.deed values ($1)', [run])
          await client.query('update public.account set balance = balance + 1 where id = $1', [
            1 + ((seed * 7 + i * 13) % accounts),
          ])
          if (i % 9 === 0) await client.query('rollback')
          else {
            await client.query('commit')
            committed++
          }
          await sleep(10)
        }
      } catch {
        await sleep(100) // The database is down; that is the point.
      } finally {
        await client.end().catch(() => undefined)
      }
    }
  }
  const load = Array.from({ length: workers }, (_, n) => work(n))
  const targets = [
    ['server'],
    ['PostgreSQL'],
    ['mail'],
    ['server', 'PostgreSQL'],
    ['posts'],
    ['server', 'mail', 'posts'],
  ]
  for (let n = 0; n < times; n++) {
    await sleep(300 + Math.random() * 1200)
    const target = targets[n % targets.length]
    if (target.includes('server')) await kill(server.pid)
    for (const kind of ['mail', 'posts'])
      if (target.includes(kind)) {
        await kill(told.pids[kind])
        await told.startTaking(kind)
      }
    if (target.includes('PostgreSQL')) {
      await kill(cluster.pid)
      cluster = await startDatabase()
    }
    if (target.includes('server') || server.exitCode !== null) server = await start()
    if ((n + 1) % 10 === 0) say(`  killed ${n + 1} times, ${committed} changes committed so far`)
  }
  working = false
  await Promise.all(load)

  const [business, spoor] = [
    new pg.Client({ connectionString: businessUrl }),
    new pg.Client({ connectionString: spoorUrl }),
  ]
  await business.connect()
  await spoor.connect()
  for (let tries = 0; ; tries++) {
    if (server.exitCode !== null || server.signalCode !== null) server = await start()
    const { rows } = await business.query('select count(*)::int as waiting from spoor_capture.outbox')
    if (rows[0].waiting === 0) break
    if (tries > 600) throw new Error('the outbox is not emptied')
    await sleep(100)
  }
  const { rows: truth } = await business.query('select id, balance from public.account where balance > 0 order by id')
  const { rows: changed } = await spoor.query(
    `select (record_key::json ->> 0)::int as id, count(*)::int as saves, count(distinct after)::int as distinct_values, max(after::int) as last from ledger.change group by 1 order by 1`,
  )
  const { rows: numbers } = await spoor.query(
    'select count(*)::int as saves, coalesce(max(id), 0)::int as highest from ledger.save',
  )
  const wrong = truth.filter(({ id, balance }) => {
    const one = changed.find((row) => row.id === id)
    return !one || one.saves !== balance || one.distinct_values !== balance || one.last !== balance
  })
  const sum = truth.reduce((total, row) => total + row.balance, 0)
  say(
    `  ${sum} changes in the business database, ${numbers[0].saves} saves in the ledger, highest number ${numbers[0].highest}`,
  )
  // Everything is sealed before it is compared.
  for (let tries = 0; tries < 300; tries++) {
    const { rows } = await spoor.query('select coalesce(max(size), 0)::int as size from ledger.seal')
    if (rows[0].size === numbers[0].saves) break
    await sleep(100)
  }
  const untold = await told.wrong(business, spoor)
  say(`  ${told.words}`)
  await business.end()
  await kill(server.pid)
  await told.stop()
  const { rows: seals } = await spoor.query(
    'select count(*)::int as seals, coalesce(max(size), 0)::int as sealed from ledger.seal',
  )
  await spoor.end()
  const unproved = await placesThatDoNotMatch(spoorUrl)
  say(
    `  ${seals[0].seals} seals over ${seals[0].sealed} saves; ${unproved.length === 0 ? 'all of the ledger matches them' : unproved.join('; ')}`,
  )
  await cluster.stop()
  const sealed = seals[0].seals > 0 && unproved.length === 0
  const kept = wrong.length === 0 && numbers[0].saves === sum && numbers[0].highest === sum && sealed
  const ok = kept && untold.length === 0
  if (ok) rmSync(dataDir, { recursive: true, force: true })
  if (wrong.length > 0) say(`WRONG for accounts ${wrong.map((row) => row.id).join(', ')}`)
  for (const words of untold) say(`WRONG: ${words}`)
  say(`\nkilled ${times} times: ${ok ? 'nothing lost, nothing twice' : 'NOT all of it is as it should be'}`)
  say(`${ok ? 1 : 0} passed, ${ok ? 0 : 1} failed`)
  process.exitCode = ok ? 0 : 1
})
