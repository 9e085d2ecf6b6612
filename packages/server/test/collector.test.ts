import { setTimeout as sleep } from 'node:timers/promises'
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import { readOutbox, emptyOutbox } from '../src/collector/outbox.ts'
import { interpret } from '../src/collector/interpret.ts'
import { CollectorSuperseded, LedgerWriter } from '../src/collector/write.ts'
import { ledger, makeWorld, track, type World } from './support.ts'

let world: World
beforeAll(async () => {
  world = await makeWorld('create table public.account (id int primary key, balance int not null)')
  await track(world, { account: ['balance'] })
  await world.business.query('insert into account select g, 0 from generate_series(1, 50) g')
})
beforeEach(() => world.collect())
afterAll(() => world.close())

const count = async () => (await ledger(world)).length

describe('exactly once', () => {
  it('takes a transaction that commits late, with numbers below what was taken already', async () => {
    const before = await count()
    const late = await world.business.connect()
    await late.query('begin; update account set balance = 1 where id = 1')
    await world.business.query('update account set balance = 2 where id = 2')
    await world.collect()
    expect(await count()).toBe(before + 1)
    await late.query('commit')
    late.release()
    await world.collect()
    expect(await count()).toBe(before + 2)
  })

  it('does not double what was written but not yet emptied when it stopped', async () => {
    const before = await count()
    await world.business.query('update account set balance = balance + 1')
    // The first half of a round, as if the process had been killed before the second.
    const source = await world.sources.connection(world.sourceId)
    const rows = (await readOutbox(source, 5000))!
    const state = await world
      .db('ledger.collector_state')
      .where({ source_id: world.sourceId })
      .first<{ batches: string }>('batches')
    const saves = rows.flatMap((row) => {
      const read = interpret(row, new Map())
      return read.understood ? [read.save] : []
    })
    await new LedgerWriter(world.db, Buffer.alloc(32)).write({
      sourceId: world.sourceId,
      batchesSeen: state.batches,
      saves,
      setAside: [],
    })
    expect(await count()).toBe(before + 50)
    await world.business.query('update account set balance = balance + 1 where id = 1')
    await world.collect()
    expect(await count()).toBe(before + 51)
    expect(await readOutbox(source, 10)).toEqual([])
  })

  it('refuses a batch when another collector was there meanwhile, and writes nothing of it', async () => {
    await world.business.query('update account set balance = balance + 1 where id = 3')
    const source = await world.sources.connection(world.sourceId)
    const rows = (await readOutbox(source, 5000))!
    const before = await count()
    await world.collect()
    const saves = rows.flatMap((row) => {
      const read = interpret(row, new Map())
      return read.understood ? [read.save] : []
    })
    const writer = new LedgerWriter(world.db, Buffer.alloc(32))
    await expect(writer.write({ sourceId: world.sourceId, batchesSeen: '0', saves, setAside: [] })).rejects.toThrow(
      CollectorSuperseded,
    )
    expect(await count()).toBe(before + 1)
  })

  it('holds under eight connections, rollbacks and two collectors at once', async () => {
    const before = await ledger(world)
    const collectors = [world.newCollector(), world.newCollector()]
    for (const collector of collectors) collector.start()
    let committed = 0
    const work = async (seed: number) => {
      for (let i = 0; i < 40; i++) {
        const client = await world.business.connect()
        try {
          await client.query('begin')
          await client.query('update account set balance = balance + 1 where id = $1', [1 + ((seed * 7 + i * 13) % 50)])
          if ((seed + i) % 5 === 0) await client.query('rollback')
          else {
            await client.query('commit')
            committed++
          }
        } finally {
          client.release()
        }
      }
    }
    await Promise.all(Array.from({ length: 8 }, (_, seed) => work(seed)))
    await sleep(300)
    for (const collector of collectors) await collector.stop()
    await world.collect()
    const all = await ledger(world)
    expect(all.length - before.length).toBe(committed)
    expect(new Set(all.map((save) => save.id)).size).toBe(all.length)
    expect(all.map((save) => Number(save.id))).toEqual(all.map((_, at) => at + 1))
  })

  it('each after is the next before, for every record', async () => {
    const latest = new Map<string, string | null>()
    for (const save of await ledger(world)) {
      const pair = save.values['balance']
      if (!pair) continue
      if (save.action !== 'create') expect(pair[0]).toBe(latest.get(save.key))
      latest.set(save.key, pair[1])
    }
    const { rows } = await world.business.query<{ id: number; balance: number }>('select id, balance from account')
    for (const row of rows) expect(latest.get(`["${row.id}"]`)).toBe(String(row.balance))
  })
})

describe('what cannot be understood', () => {
  it('is set aside whole and the rest goes on', async () => {
    const source = await world.sources.connection(world.sourceId)
    const before = await count()
    await source.raw(`insert into spoor_capture.outbox (captured_at, type_id, plan_version, action, key, label, delta, login) values
      (now(), 1, 1, 'explode', '["1"]', '', '{}', 'x'), (now(), 1, 1, 'change', 'nokey', '', '{}', 'x'), (now(), 1, 1, 'change', '["1"]', '', '{"1":[1,2]}', 'x'),
      ('infinity', 1, 1, 'change', '["1"]', '', '{}', 'x')`)
    await world.business.query('update account set balance = balance + 1 where id = 4')
    await world.collect()
    expect(await count()).toBe(before + 1)
    const aside = await world
      .db('ledger.set_aside')
      .orderBy('outbox_seq')
      .select<{ why: string; content: string }[]>('why', 'content')
    expect(aside.map((row) => row.why)).toEqual([
      'the action “explode” is not known',
      'the key is not a list of texts',
      'the values are not pairs of before and after',
      'the time “infinity” is not one at which this can have happened',
    ])
    expect(JSON.parse(aside[1]!.content)).toMatchObject({ key: 'nokey' })
    await emptyOutbox(source, [])
  })
})

describe('the ledger', () => {
  it('cannot be changed by the role the application works as', async () => {
    for (const statement of [
      'update ledger.save set label = label',
      'delete from ledger.change',
      'truncate ledger.save',
    ])
      await expect(world.db.raw(statement)).rejects.toMatchObject({ code: '42501' })
  })

  it('has a partition for each month that was written', async () => {
    const { rows } = await world.db.raw<{ rows: { name: string }[] }>(
      `select inhrelid::regclass::text as name from pg_inherits where inhparent = 'ledger.save'::regclass`,
    )
    expect(rows.map((row) => row.name)).toEqual([
      `ledger.save_${new Date().toISOString().slice(0, 7).replace('-', '_')}`,
    ])
  })
})
