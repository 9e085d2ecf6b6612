import { setTimeout as sleep } from 'node:timers/promises'
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import { asSuperuser } from './names.ts'
import { RecordNames } from '../src/capture/record-names.ts'
import { readOutbox, type OutboxRow } from '../src/capture/outbox.ts'
import { Preparer } from '../src/collector/prepare.ts'
import { CollectorSuperseded, LedgerWriter } from '../src/collector/write.ts'
import { ledger, makeWorld, track, type World } from './support.ts'

const all = { afterSeq: 0n, maxRows: 5000, maxBytes: 1e9 }

let world: World
beforeAll(async () => {
  world = await makeWorld('create table public.account (id int primary key, balance int not null)')
  await track(world, { account: ['balance'] })
  await world.business.query('insert into account select g, 0 from generate_series(1, 50) g')
})
beforeEach(() => world.collect())
afterAll(() => world.close())

const prepare = (rows: readonly OutboxRow[]) =>
  new Preparer(world.db, world.sourceId, Buffer.alloc(32), new RecordNames(world.db, world.sources)).prepare(rows, {
    logins: new Map(),
    identities: [],
  })

const count = async () => (await ledger(world)).length

describe('a new month', () => {
  it('is made without waiting for whoever reads or writes the ledger, and without anybody waiting for it', async () => {
    await world.business.query('update account set balance = balance + 1000')
    await world.collect()
    const [reader, writer] = [await world.db.transaction(), await world.db.transaction()]
    const maker = await world.db.transaction()
    await reader.raw('select 1 from ledger.change limit 1')
    await writer.raw('insert into ledger.change select * from ledger.change limit 0')
    await maker.raw(`set local lock_timeout = '2s'`)
    await maker.raw(`select ledger.ensure_month('2031-05-17')`)
    // Who reads one table while a month is being made needs the other to go on.
    await reader.raw(`set local lock_timeout = '2s'`)
    await reader.raw('select 1 from ledger.save limit 1')
    await Promise.all([reader.commit(), writer.commit(), maker.commit()])
    const { rows } = await world.db.raw<{ rows: { name: string; bound: string; indexes: number }[] }>(
      `select c.relname as name, pg_get_expr(c.relpartbound, c.oid) as bound, (select count(*)::int from pg_index i where i.indrelid = c.oid) as indexes
         from pg_class c where c.relname in ('save_2031_05', 'change_2031_05') and relkind = 'r' order by 1`,
    )
    const { rows: old } = await world.db.raw<{ rows: { indexes: number }[] }>(
      `select count(*)::int as indexes from pg_index where indrelid = 'ledger.change'::regclass`,
    )
    expect(rows.find(({ name }) => name === 'change_2031_05')).toEqual({
      name: 'change_2031_05',
      bound: `FOR VALUES FROM ('2031-05-01 00:00:00+00') TO ('2031-06-01 00:00:00+00')`,
      indexes: old[0]!.indexes,
    })
    expect(rows.map(({ name }) => name)).toContain('save_2031_05')
  })
})

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
    const rows = await readOutbox(source, all)
    const state = await world
      .db('ledger.collector_state')
      .where({ source_id: world.sourceId })
      .first<{ batches: string }>('batches')
    const prepared = await prepare(rows)
    await new LedgerWriter(world.db).write({ sourceId: world.sourceId, batchesSeen: state.batches, prepared })
    expect(await count()).toBe(before + 50)
    await world.business.query('update account set balance = balance + 1 where id = 1')
    await world.collect()
    expect(await count()).toBe(before + 51)
    expect(await readOutbox(source, all)).toEqual([])
  })

  it('refuses a batch when another collector was there meanwhile, and writes nothing of it', async () => {
    await world.business.query('update account set balance = balance + 1 where id = 3')
    const source = await world.sources.connection(world.sourceId)
    const rows = await readOutbox(source, all)
    const before = await count()
    await world.collect()
    const prepared = await prepare(rows)
    const writer = new LedgerWriter(world.db)
    await expect(writer.write({ sourceId: world.sourceId, batchesSeen: '0', prepared })).rejects.toThrow(
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
    expect(rows.map((row) => row.name)).toEqual(
      expect.arrayContaining([`ledger.save_${new Date().toISOString().slice(0, 7).replace('-', '_')}`]),
    )
  })
})

describe('a source that is not what it was', () => {
  const trouble = async () =>
    (
      await world
        .db('ledger.collector_state')
        .where({ source_id: world.sourceId })
        .first<{ trouble: string | null }>(world.db.raw(`nullif(concat_ws(' ', trouble, watch_words), '') as trouble`))
    ).trouble
  const source = () => world.sources.connection(world.sourceId)
  const coverage = async () =>
    await world
      .db('spoor.coverage')
      .orderBy('id')
      .select<{ to_at: string | null; ended_because: string | null }[]>('to_at', 'ended_because')

  it.each([
    ['disabled', (name: string) => `alter table public.account disable trigger ${name}`],
    ['dropped', (name: string) => `drop trigger ${name} on public.account`],
    [
      'altered',
      (name: string) =>
        `create or replace function spoor_capture.${name}() returns trigger language plpgsql as 'begin return null; end'`,
    ],
  ])(
    'a trigger %s in the source begins a gap and raises an alarm, and a plan put in force ends both',
    async (deed, statement) => {
      const collector = world.newCollector()
      await world.watch()
      expect((await coverage()).at(-1)!.to_at).toBeNull()
      const type = await world.db('spoor.record_type').where({ table_name: 'account' }).first<{ id: number }>('id')
      await (await source()).raw(statement(`spoor_t${type.id}_update`))
      await world.watch()
      await collector.collectOnce()
      expect((await coverage()).at(-1)).toMatchObject({ ended_because: `capture triggers were ${deed} in the source` })
      expect(await trouble()).toContain(`Accounts are not being captured: capture triggers were ${deed} in the source.`)
      await track(world, { account: ['balance'] }, 'off').catch(() => undefined)
      await track(world, { account: ['balance'] })
      await world.watch()
      await collector.collectOnce()
      expect((await coverage()).at(-1)!.to_at).toBeNull()
      expect(await trouble()).toBeNull()
    },
  )

  it('says who laid hands on captured rows', async () => {
    await world.business.query('update account set balance = balance + 1')
    const { default: pg } = await import('pg')
    const superuser = new pg.Client({ connectionString: world.superuserUrl })
    await superuser.connect()
    await superuser.query('delete from spoor_capture.outbox where seq % 2 = 0')
    await superuser.end()
    const collector = world.newCollector()
    await world.watch()
    await collector.collectOnce()
    expect(await trouble()).toMatch(
      /The login \S+ laid hands on captured rows before they were collected \(delete, once/,
    )
  })

  it.each([
    [
      'alters one from within a trigger of their own',
      `create function public.quiet() returns trigger language plpgsql as 'begin update spoor_capture.outbox set label = label || ''!''; return null; end'; create trigger quiet after insert on public.elsewhere for each statement execute function public.quiet(); insert into public.elsewhere values (1); drop function public.quiet() cascade`,
      /laid hands on captured rows before they were collected \(update, once/,
    ],
    [
      'removes one with no trigger running',
      `set session_replication_role = replica; delete from spoor_capture.outbox where seq = (select max(seq) from spoor_capture.outbox)`,
      /\(delete, once/,
    ],
    [
      'covers the trace up in the same transaction',
      `begin; update spoor_capture.outbox set label = label; delete from spoor_capture.meddling; commit`,
      /touched once without a trace that stayed/,
    ],
    ['takes it back', `begin; delete from spoor_capture.outbox; rollback`, /touched once without a trace that stayed/],
    [
      'sets the numbers back',
      `begin; delete from spoor_capture.outbox; delete from spoor_capture.meddling; select setval('spoor_capture.meddling_id_seq', 1, false); commit`,
      /set back/,
    ],
  ])('says when somebody %s', async (_, deed, words) => {
    await world.collect()
    await world.watch()
    await world
      .db('spoor.alarm')
      .where({ code: 'outbox-altered' })
      .update({ settled_at: new Date().toISOString(), settled_why: 'looked at' })
    const { default: pg } = await import('pg')
    const superuser = new pg.Client({ connectionString: world.superuserUrl })
    await superuser.connect()
    await superuser.query('create table if not exists public.elsewhere (id int)')
    await world.business.query('update account set balance = balance + 1')
    await superuser.query(deed)
    await superuser.end()
    await world.watch()
    const told: string[] = await world
      .db('spoor.alarm')
      .where({ code: 'outbox-altered', settled_at: null })
      .pluck('words')
    expect(told).toEqual([expect.stringMatching(words)])
    // It is told once, however often it is looked.
    await world.watch()
    expect(await world.db('spoor.alarm').where({ code: 'outbox-altered', settled_at: null })).toHaveLength(1)
    await world.collect()
  })

  it('sets a row aside that somebody else put among the captured ones', async () => {
    await world.collect()
    await world.business.query('update account set balance = balance + 1 where id = 1')
    await asSuperuser(world.superuserUrl, (client) =>
      client.query(
        `insert into spoor_capture.outbox (captured_at, type_id, plan_version, action, key, label, delta, login) select captured_at, type_id, plan_version, action, key, label, delta, 'somebody else' from spoor_capture.outbox limit 1`,
      ),
    )
    const before = await count()
    await world.collect()
    expect(await count()).toBe(before + 1)
    const aside = await world.db('ledger.set_aside').orderBy('set_aside_at', 'desc').first<{ why: string }>('why')
    expect(aside.why).toMatch(/^it was not written by the capture but by \S+$/)
  })

  it('leaves no trace of what capture and collecting do themselves', async () => {
    await world.collect()
    await world.watch()
    await world
      .db('spoor.alarm')
      .where({ code: 'outbox-altered' })
      .update({ settled_at: new Date().toISOString(), settled_why: 'looked at' })
    await world.business.query(
      'insert into account values (9001, 1), (9002, 1); update account set id = id + 10 where id > 9000; delete from account where id > 9000',
    )
    await world.collect()
    await world.watch()
    expect(await world.db('spoor.alarm').where({ code: 'outbox-altered', settled_at: null })).toEqual([])
    expect(Number((await (await source()).raw('select count(*) from spoor_capture.meddling')).rows[0].count)).toBe(0)
  })

  it('that came back older is told, and nothing is taken twice', async () => {
    await world.collect()
    const before = await count()
    // A backup made before the last rows were emptied: the numbers go back and collected rows are there again.
    await world.business.query('update account set balance = balance + 1 where id <= 3')
    const s = await source()
    await s.raw('create table public.backup as select * from spoor_capture.outbox')
    await world.collect()
    expect(await count()).toBe(before + 3)
    await s.raw(
      `insert into spoor_capture.outbox overriding system value select * from public.backup; drop table public.backup`,
    )
    await s.raw(`select setval('spoor_capture.outbox_seq_seq', (select max(seq) from spoor_capture.outbox) - 1)`)
    await s.raw(`delete from spoor_capture.outbox where seq = (select max(seq) from spoor_capture.outbox)`)
    await world.business.query('update account set balance = balance + 1 where id = 10')
    const collector = world.newCollector()
    while ((await collector.collectOnce()) > 0);
    expect(await count()).toBe(before + 4)
    // Numbers that were caught up with before anybody looked are harmless; those that are still behind are told.
    await s.raw(`select setval('spoor_capture.outbox_seq_seq', 1)`)
    await collector.collectOnce()
    expect(
      (await world.db('spoor.alarm').where({ code: 'source-older' }).first<{ words: string }>('words')).words,
    ).toContain('came back older')
  })

  it('that is another database is not collected from until a plan is put in force there', async () => {
    await world.collect()
    const before = await count()
    await (await source()).raw(`update spoor_capture.meta set value = gen_random_uuid()::text where name = 'epoch'`)
    await world.business.query('update account set balance = balance + 1 where id = 11')
    await world.collect()
    expect(await count()).toBe(before)
    expect(await trouble()).toContain('not the one that was tracked')
    await track(world, { account: ['balance', 'id'] })
    await world.collect()
    expect(await count()).toBe(before + 1)
  })
})

describe('values of many megabytes', () => {
  it('come in batches that do not hold them all at once', async () => {
    const owner = await world.sources.connection(world.sourceId)
    await owner.raw(
      `set role business_owner; create table public.big (id int primary key, body text); grant all on public.big to business_app; reset role`,
    )
    await track(world, { big: ['body'] })
    await world.business.query(
      `insert into public.big select g, repeat(md5(g::text), 200000) from generate_series(1, 6) g`,
    )
    await world.business.query(`insert into public.big select 7, repeat('x', 50 * 1024 * 1024)`)
    const sizes: number[] = []
    const collector = world.newCollector()
    for (let took = await collector.collectOnce(); took > 0; took = await collector.collectOnce()) sizes.push(took)
    expect(sizes.length).toBeGreaterThan(2)
    expect(sizes.reduce((sum, one) => sum + one, 0)).toBe(7)
    const { rows } = await world.db.raw<{ rows: { bytes: string }[] }>(
      'select max(octet_length(after)) as bytes from ledger.change',
    )
    expect(Number(rows[0]!.bytes)).toBe(50 * 1024 * 1024)
  })
})

describe('runs and hourly counts', () => {
  it('group saves of one transaction, of one declared run and of one burst', async () => {
    const run = async () =>
      (
        await world.db.raw<{ rows: { kind: string; declared: string | null; saves: string }[] }>(
          `select kind, declared, saves from ledger.run order by last_at desc, id desc limit 1`,
        )
      ).rows[0]!
    await world.business.query('update account set balance = balance + 1 where id <= 5')
    await world.collect()
    expect(await run()).toMatchObject({ kind: 'transaction', saves: '5' })
    const client = await world.business.connect()
    for (const id of [1, 2]) {
      await client.query('begin')
      await client.query(`select set_config('spoor.context', '{"actor":"Loader","run":"file a.csv"}', true)`)
      await client.query('update account set balance = balance + 1 where id = $1', [id])
      await client.query('commit')
      await world.collect()
    }
    client.release()
    expect(await run()).toMatchObject({ kind: 'declared', declared: 'file a.csv', saves: '2' })
    for (const id of [21, 22, 23])
      await world.business.query('update account set balance = balance + 1 where id = $1', [id])
    await world.collect()
    await world.business.query('update account set balance = balance + 1 where id = 24')
    await world.collect()
    const burst = await run()
    expect(burst.kind).toBe('burst')
    expect(Number(burst.saves)).toBeGreaterThanOrEqual(4)
  })

  it('count exactly what the ledger holds', async () => {
    const compare = `
      select (select count(*) from ledger.save)::int as saves, (select count(*) from ledger.change)::int as changes,
             (select sum(saves) from ledger.hour_actor)::int as rolled_saves, (select sum(changes) from ledger.hour_actor)::int as rolled_changes,
             (select sum(saves) from ledger.month_actor)::int as month_saves, (select sum(changes) from ledger.month_actor)::int as month_changes,
             (select sum(changes) from ledger.hour_field)::int as rolled_fields, (select sum(saves) from ledger.run)::int as run_saves`
    const { rows } = await world.db.raw<{ rows: Record<string, number>[] }>(compare)
    const { saves, changes, rolled_saves, rolled_changes, month_saves, month_changes, rolled_fields, run_saves } =
      rows[0]!
    expect([rolled_saves, month_saves, run_saves]).toEqual([saves, saves, saves])
    expect([rolled_changes, month_changes, rolled_fields]).toEqual([changes, changes, changes])
  })
})
