import { hash } from 'node:crypto'
import { availableParallelism, tmpdir } from 'node:os'
import { mkdtempSync, rmSync } from 'node:fs'
import { join } from 'node:path'
import { pino } from 'pino'
import { LedgerCheck } from '../packages/server/dist/custody/check.js'
import { SliceThreads } from '../packages/server/dist/custody/slices.js'
import { provedLines } from '../packages/server/dist/custody/proved.js'
import { recomputeSaves } from '../packages/server/dist/custody/recompute.js'
import { evidenceKey } from '../packages/server/dist/evidence/evidence.js'
import { OutsideSeals } from '../packages/server/dist/custody/outside.js'
import { Sealer } from '../packages/server/dist/custody/sealer.js'
import { SigningKey } from '../packages/server/dist/custody/signing-key.js'
import { Noticing } from '../packages/server/dist/noticing/noticing.js'
import { makeWorld, timed } from './world.mjs'

/** So many of them are taken out with their proofs. */
const provedSaves = 10_000
const schema = `create table public.record (id int primary key, a int, b numeric(10,2), c text, d date);
insert into public.record select g, g, g, 'text ' || g, date '2026-01-01' from generate_series(1, 50000) g;`

/** From a full outbox to an empty one: runs, roll-ups and indexes included. Two and a half changes a save. */
export async function collector(cluster) {
  const [alone, size] = await collecting(cluster, false)
  const [noticing] = await collecting(cluster, true)
  return [alone, size, noticing]
}

async function collecting(cluster, withNoticing) {
  const world = await makeWorld(cluster, schema)
  await world.track({ record: ['a', 'b', 'c', 'd'] })
  await world.business.query('update public.record set a = a + 1, b = b + 1')
  await world.business.query(`update public.record set a = a + 1, b = b + 1, c = c || '.'`)
  const one = world.newCollector()
  const log = pino({ level: 'silent' })
  const noticing = withNoticing ? new Noticing(world.db, log) : null
  noticing?.start()
  // Sealing goes on beside it, in the same process, as on a server.
  const directory = mkdtempSync(join(tmpdir(), 'spoor-bench-'))
  const sealer = new Sealer({
    db: world.db,
    key: SigningKey.open(directory),
    outside: new OutsideSeals(directory),
    log,
  })
  sealer.start()
  const ms = await timed(async () => {
    while ((await one.collectOnce()) > 0);
  })
  await noticing?.stop()
  await sealer.stop()
  rmSync(directory, { recursive: true })
  const { rows } = await world.db.raw(
    `select (select count(*) from ledger.save)::int as saves, (select count(*) from ledger.change)::int as changes,
            (select sum(pg_total_relation_size(inhrelid)) from pg_inherits where inhparent in ('ledger.save'::regclass, 'ledger.change'::regclass))::bigint as bytes`,
  )
  await world.close()
  const { saves, changes, bytes } = rows[0]
  const rate = (changes / ms) * 1000
  return [
    {
      name: 'collector',
      value: rate,
      unit: 'changes/s',
      against: `${((saves / ms) * 1000).toFixed(0)} saves/s, leaves and seals included${withNoticing ? ', noticing beside it' : ''}`,
      ratio: null,
      target: '>= 18000',
      holds: rate >= 18_000,
    },
    {
      name: 'collector',
      value: Number(bytes) / changes,
      unit: 'ledger bytes a change',
      against: 'indexes included',
      ratio: null,
      target: null,
      holds: null,
    },
  ]
}

/** Sealing what was collected, and then comparing all of it with its seals: values, saves, tree, counts. */
export async function check(cluster) {
  const world = await makeWorld(cluster, schema)
  await world.track({ record: ['a', 'b', 'c', 'd'] })
  for (let n = 0; n < 4; n++) await world.business.query(`update public.record set a = a + 1, b = b + 1, c = c || '.'`)
  const one = world.newCollector()
  while ((await one.collectOnce()) > 0);
  const directory = mkdtempSync(join(tmpdir(), 'spoor-bench-'))
  const outside = new OutsideSeals(directory)
  const log = pino({ level: 'silent' })
  const sealer = new Sealer({ db: world.db, key: SigningKey.open(directory), outside, log })
  const sealMs = await timed(async () => {
    while (await sealer.seal());
  })
  const [row] = await world.db('spoor.ledger_check').insert({ total: 0 }).returning('id')
  const slices = new SliceThreads(world.spoorUrl)
  let found = -1
  const checkMs = await timed(async () => {
    const run = {
      db: world.db,
      outside,
      evidenceKey: evidenceKey(world.vault),
      slices,
      checkId: row.id,
      hurried: () => true,
      onProgress: () => Promise.resolve(true),
    }
    found = await new LedgerCheck(run).check()
  })
  await slices.close()
  const floorMs = await readingAndHashingAlone(world)
  let lines = 0
  const provedMs = await timed(async () => {
    for await (const line of provedLines(world.db, [{}])) if (line && ++lines > provedSaves) break
  })
  const { rows } = await world.db.raw('select last_save_id::int as saves from ledger.head')
  rmSync(directory, { recursive: true })
  await world.close()
  if (found !== 0) throw new Error(`the check found ${found} places in a ledger that nobody altered`)
  const rate = (ms) => (rows[0].saves / ms) * 1000
  return [
    {
      name: 'check',
      value: rate(checkMs),
      unit: 'saves/s',
      against: `${rows[0].saves} saves, three changes each, from the database`,
      ratio: null,
      target: '>= 80000',
      holds: rate(checkMs) >= 80_000,
    },
    {
      name: 'check',
      value: rate(floorMs),
      unit: 'saves/s',
      against: 'reading the rows and hashing what they hold, and nothing else, shared out to all cores',
      ratio: floorMs / checkMs,
      target: null,
      holds: null,
    },
    {
      name: 'proved',
      value: (provedSaves / provedMs) * 1000,
      unit: 'saves/s',
      against: 'taken out with their proofs',
      ratio: null,
      target: null,
      holds: null,
    },
    {
      name: 'seal',
      value: rate(sealMs),
      unit: 'saves/s',
      against: 'from stored leaves',
      ratio: null,
      target: null,
      holds: null,
    },
  ]
}

/** The least that a check from outside the database can take: its rows read out, and six commitments and a leaf hashed a save. */
async function readingAndHashingAlone(world) {
  const { rows } = await world.db.raw(
    `select (select avg(octet_length(after) + 34)::int from ledger.change where after is not null) as value, (select last_save_id::int from ledger.head) as saves`,
  )
  const readMs = await timed(async () => {
    for (const [table, by] of [
      ['save', 'id'],
      ['change', 'save_id'],
    ])
      await world.db.raw(`copy (select * from ledger.${table} order by ${by}) to '/dev/null' (format binary)`)
  })
  const [one] = await recomputeSaves(world.db, [String(rows[0].saves)])
  const leaf = Buffer.from(one.canonical)
  const value = Buffer.alloc(rows[0].value, 'x')
  const hashMs = await timed(() => {
    for (let save = 0; save < rows[0].saves; save++) {
      for (let side = 0; side < 6; side++) hash('sha256', value, 'hex')
      hash('sha256', leaf, 'hex')
    }
  })
  return (readMs + hashMs) / availableParallelism()
}

/** The time from capture to ledger under 500 saves a second. */
export async function lag(cluster) {
  const world = await makeWorld(cluster, schema)
  await world.track({ record: ['a', 'b', 'c', 'd'] })
  const one = world.newCollector()
  one.start()
  const perSecond = 500
  const seconds = 12
  const start = performance.now()
  const under = []
  for (let n = 0; n < perSecond * seconds; n++) {
    const due = start + (n * 1000) / perSecond
    const wait = due - performance.now()
    if (wait > 1) await new Promise((done) => setTimeout(done, wait))
    under.push(
      world.business.query('update public.record set a = a + 1, b = b + 1 where id = $1', [1 + ((n * 17) % 50_000)]),
    )
  }
  await Promise.all(under)
  await new Promise((done) => setTimeout(done, 2000))
  await one.stop()
  const { rows } = await world.db.raw(
    `select count(*)::int as saves, percentile_cont(0.95) within group (order by extract(epoch from collected_at - captured_at)) as p95 from ledger.save`,
  )
  await world.close()
  const p95 = Number(rows[0].p95)
  return [
    {
      name: 'lag',
      value: p95,
      unit: 's, 95th percentile',
      against: `${rows[0].saves} saves at ${perSecond}/s`,
      ratio: null,
      target: '<= 1',
      holds: p95 <= 1,
    },
  ]
}
