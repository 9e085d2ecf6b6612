import { spawn } from 'node:child_process'
import { readdirSync, writeFileSync, mkdtempSync, rmSync, chmodSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { makeWorld, median } from './world.mjs'

const program = `/usr/lib/postgresql/${readdirSync('/usr/lib/postgresql').sort().at(-1)}/bin/pgbench`
const tracked = {
  pgbench_accounts: ['aid', 'bid', 'abalance'],
  pgbench_tellers: ['tid', 'bid', 'tbalance'],
  pgbench_branches: ['bid', 'bbalance'],
  pgbench_history: ['id', 'tid', 'bid', 'aid', 'delta'],
}
const rounds = 5
const seconds = 4

function run(url, ...args) {
  return new Promise((resolve, reject) => {
    const child = spawn(program, [...args, url], { stdio: ['ignore', 'pipe', 'pipe'] })
    let said = ''
    child.stdout.on('data', (text) => (said += text))
    child.stderr.on('data', (text) => (said += text))
    child.on('close', (code) => (code === 0 ? resolve(said) : reject(new Error(said))))
  })
}

async function rate(world, script) {
  const args = script ? ['-f', script] : []
  const said = await run(
    world.businessUrl,
    '-n',
    '-M',
    'prepared',
    '-c',
    '4',
    '-j',
    '1',
    '-T',
    String(seconds),
    ...args,
  )
  return Number(/tps = ([\d.]+)/.exec(said)[1])
}

async function prepared(cluster, plan) {
  const world = await makeWorld(cluster, 'select 1')
  await run(world.businessUrl, '-i', '-q', '-s', '10')
  await world.business.query(
    'alter table pgbench_history add column id bigint generated always as identity primary key',
  )
  if (plan) await world.track(plan)
  return world
}

/**
 * pgbench's own transaction (three updates, an insertion, a query), and one of forty small updates: with the capture
 * against without, in turn; then with a collector beside it on the same machine.
 */
export async function capturePgbench(cluster) {
  const scripts = mkdtempSync(join(tmpdir(), 'spoor-bench-'))
  chmodSync(scripts, 0o755)
  const many = join(scripts, 'many.sql')
  const update = '\\set aid random(1, 1000000)\nupdate pgbench_accounts set abalance = abalance + 1 where aid = :aid;\n'
  writeFileSync(many, `begin;\n${update.repeat(40)}end;\n`)
  const plain = await prepared(cluster, null)
  const captured = await prepared(cluster, tracked)
  const lines = []
  for (const [name, script, target] of [
    ['capture-pgbench', null, 0.6],
    ['capture-many', many, 0.5],
  ]) {
    const rates = { plain: [], captured: [] }
    for (let round = 0; round < rounds; round++) {
      rates.plain.push(await rate(plain, script))
      rates.captured.push(await rate(captured, script))
      await captured.business.query('truncate spoor_capture.outbox')
    }
    const ratio = median(rates.captured) / median(rates.plain)
    const holds = ratio >= target
    lines.push({
      name,
      value: median(rates.captured),
      unit: 'transactions/s',
      against: 'untracked',
      ratio,
      target: `>= ${target}`,
      holds,
    })
    const collector = captured.newCollector()
    collector.start()
    const beside = await rate(captured, script)
    await collector.stop()
    await captured.business.query('truncate spoor_capture.outbox')
    lines.push({
      name,
      value: beside,
      unit: 'transactions/s',
      against: 'untracked, a collector and its ledger on the same two cores',
      ratio: beside / median(rates.plain),
    })
  }
  await plain.close()
  await captured.close()
  rmSync(scripts, { recursive: true })
  return lines
}
