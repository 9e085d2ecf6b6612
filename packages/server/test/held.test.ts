import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { parseScope, type HeldTest, type Scope } from '@spoor/core'
import { carryOut } from '../src/erasure/carry-out.ts'
import { askErasure } from '../src/erasure/erasure.ts'
import { historyOf, whereScope } from '../src/ledger/scope-sql.ts'
import { readHeldValues } from '../src/changes/queries/held-values.ts'
import { atMomentOf, keepRead } from '../src/scope/held.ts'
import { livesOf } from '../src/scope/kept-lives.ts'
import { readLives, type ReadLife } from '../src/scope/lives.ts'
import { keepSoon, Reading } from '../src/scope/reading.ts'
import { markNow, markOf, touchedSince } from '../src/scope/reading-mark.ts'
import { Taking } from '../src/tracking/taking.ts'
import { drawing } from './drawing.ts'
import { makeWorld, track, workOnce, type World } from './support.ts'

/** What every row was after every statement, by a trigger of the test's own. */
interface Logged {
  seq: string
  txid: string
  table: 'thing' | 'deed' | 'deed_line'
  o: Row | null
  n: Row | null
}
interface Row {
  id: number
  uid?: number
  state?: string | null
  deed_id?: number
}
interface Truth {
  then: string | null | undefined
  now: string | null | undefined
}

const states = ['raised', 'approved', 'in progress', null, 'done']
let world: World
const fields: Record<string, number> = {}
const typeOf: Record<string, number> = {}
/** When the state of things was not tracked. */
const gap = { from: '', to: '' }
let log: Logged[]

const drawn = drawing(20_261_201)
function statement(n: number): string {
  const [a, b] = [1 + drawn(40), 1 + drawn(40)]
  const state = states[drawn(states.length)]!
  const text = state === null ? 'null' : `'${state}'`
  const own = [
    `update thing set state = ${text} where id in (${a}, ${b})`,
    `update thing set note = 'n${n}' where id % 5 = ${drawn(5)}`,
    `insert into thing (id, state, note) values (${100 + n}, ${text}, 'x')`,
    `delete from thing where id = ${a}`,
    `update thing set id = ${1000 + n} where id = ${a}`,
    // Two records exchange their keys.
    `update thing set id = case id when ${a} then ${b} else ${a} end where id in (${a}, ${b}) and (select count(*) from thing where id in (${a}, ${b})) = 2`,
    `update thing set id = ${b}, state = ${text} where id = ${a} and not exists (select from thing where id = ${b})`,
    `update deed set state = ${text} where id % 4 = ${drawn(4)}`,
    `update deed_line set text = 'l${n}' where deed_id % 3 = ${drawn(3)}`,
    `insert into deed_line (deed_id, text) select id, 'new' from deed where id % 7 = ${drawn(7)}`,
    `update deed set id = ${1000 + n} where id = ${a}`,
    `delete from deed where id = ${a}`,
  ]
  return own[drawn(own.length)]!
}

const read = (link: string): Scope => parseScope(new URLSearchParams(link)).scope
const testsOf = (fieldId: number): HeldTest[] => [false, true].map((now) => ({ fieldId, now, values: [null] }))

beforeAll(async () => {
  world = await makeWorld(`
    create table thing (id int primary key deferrable, state text, note text, uid serial);
    create table deed (id int primary key, state text, uid serial);
    create table deed_line (id serial primary key, deed_id int not null references deed on update cascade on delete cascade, text text);
    create table logged (seq bigserial, txid text, "table" text, o jsonb, n jsonb);
    create function log_it() returns trigger language plpgsql security definer as $$ begin
      insert into public.logged (txid, "table", o, n) values (pg_current_xact_id()::text, tg_table_name, to_jsonb(old), to_jsonb(new));
      return null; end $$;
    create trigger logs after insert or update or delete on thing for each row execute function log_it();
    create trigger logs after insert or update or delete on deed for each row execute function log_it();
    create trigger logs after insert or update or delete on deed_line for each row execute function log_it();
    grant usage on all sequences in schema public to business_app;
    insert into thing (id, state, note) select n, case n % 3 when 0 then 'raised' when 1 then 'approved' end, 'x' from generate_series(1, 40) n;
    insert into deed (id, state) select n, case n % 3 when 0 then 'raised' when 1 then 'done' end from generate_series(1, 40) n;
    insert into deed_line (deed_id, text) select n, 'x' from generate_series(1, 40) n`)
  await track(world, { thing: ['id', 'state', 'note'], deed: ['id', 'state'], deed_line: ['deed_id', 'text'] })
  await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
  for (const { id, name, table, type_id } of await world
    .db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .select<{ id: number; name: string; table: string; type_id: number }[]>(
      'f.id',
      'f.type_id',
      'f.column_name as name',
      't.table_name as table',
    )) {
    fields[`${table}.${name}`] = id
    typeOf[table] = type_id
  }
  const now = async () => {
    const { rows } = await world.business.query<{ at: string }>(
      `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
    )
    return rows[0]!.at
  }
  for (let n = 0; n < 400; n++) {
    if (n === 150) {
      gap.from = await now()
      await track(world, { thing: ['state'] }, 'off')
    }
    if (n === 200) {
      await track(world, { thing: ['state'] })
      gap.to = await now()
      await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
    }
    await world.business.query(statement(n))
    // Read on again and again, so that most of it is not read as a whole.
    if (n % 8 === 0) {
      await world.collect()
      await keepRead(world.db, [fields['thing.state']!, fields['deed.state']!])
    }
  }
  await world.collect()
  await keepRead(world.db, [fields['thing.state']!, fields['deed.state']!])
  log = (await world.business.query<Logged>('select seq, txid, "table", o, n from logged order by seq')).rows
}, 240_000)
afterAll(() => world.close())

/** By table, transaction and key: what the row's record, or the record whose line it is, held then and holds now. */
function truths(): Map<string, Truth> {
  const now = new Map<string, string | null>()
  for (const { table, o, n } of log)
    if (table !== 'deed_line') {
      if (n) now.set(`${table} ${n.uid}`, n.state ?? null)
      else now.delete(`${table} ${o!.uid}`)
    }
  const told = new Map<string, Truth>()
  const deeds = new Map<number, Row>()
  for (let at = 0; at < log.length;) {
    let end = at
    while (log[end]?.txid === log[at]!.txid) end++
    const own = log.slice(at, end)
    const before = new Map(deeds)
    for (const { table, o, n } of own.filter((one) => one.table === 'deed')) {
      if (o) deeds.delete(o.id)
      if (n) deeds.set(n.id, n)
      if (o && !before.has(o.id)) before.set(o.id, o)
      expect(table).toBe('deed')
    }
    for (const { table, txid, o, n } of own) {
      const row = (n ?? o)!
      const held = table === 'deed_line' ? (deeds.get(row.deed_id!) ?? before.get(row.deed_id!)) : row
      told.set(`${table} ${txid} ["${row.id}"]`, {
        then: held ? (held.state ?? null) : undefined,
        now: held ? now.get(`${table === 'deed_line' ? 'deed' : table} ${held.uid}`) : undefined,
      })
    }
    at = end
  }
  return told
}

const savesOf = (table: string) =>
  world
    .db('ledger.save as s')
    .where('s.type_id', typeOf[table]!)
    .orderBy('s.id')
    .select<{ id: string; captured_at: string; record_key: string; transaction_id: string }[]>(
      's.id',
      's.captured_at',
      's.record_key',
      's.transaction_id',
    )

describe('what the record of a save held', () => {
  it.each([
    ['thing', 'thing.state'],
    ['deed', 'deed.state'],
    ['deed_line', 'deed.state'],
  ])('is what the row held, then and now: %s', async (table, field) => {
    const fieldId = fields[field]!
    const saves = await savesOf(table)
    expect(saves.length).toBeGreaterThan(150)
    const told = truths()
    const history = await historyOf(world.db, saves, [
      { holds: { part: 'holds', exclude: false, tests: testsOf(fieldId) } },
    ])
    let unknown = 0
    for (const { id, captured_at, record_key, transaction_id } of saves) {
      const truth = told.get(`${table} ${transaction_id} ${record_key}`)!
      const own = history.get(id)!.held
      const [then, now] = [own.find((one) => !one.now), own.find((one) => one.now)]
      const where = [id, table, record_key, captured_at]
      if (then) expect([...where, then.value]).toEqual([...where, truth.then])
      else {
        expect([...where, captured_at > gap.from && captured_at < gap.to]).toEqual([...where, table === 'thing'])
        unknown++
      }
      expect([...where, now?.value]).toEqual([...where, truth.now])
    }
    expect(unknown).toBeLessThan(table === 'thing' ? saves.length / 4 : 1)
  })

  it('is the same when all is read anew', async () => {
    const kept = () =>
      world
        .db('spoor.held')
        .orderBy(['field_id', 'record_key', 'since_save', 'from_at', 'from_save'])
        .select<object[]>()
    const before = await kept()
    for (const read of ['spoor.held_read', 'spoor.life_read']) await world.db(read).update({ coverage: 'another' })
    await keepRead(world.db, [fields['thing.state']!, fields['deed.state']!])
    expect(await kept()).toEqual(before)
    expect(before.length).toBeGreaterThan(300)
  })

  it('narrows to those saves, with their lines, and the other way round to all others', async () => {
    const told = truths()
    for (const [link, holds] of [
      [`holds=f${fields['deed.state']}.then.done`, ({ then }: Truth) => then === 'done'],
      [`holds=f${fields['deed.state']}.now-nothing`, ({ now }: Truth) => now === null],
      [
        `holds=f${fields['deed.state']}.then.raised&holds=f${fields['deed.state']}.then-nothing&holds=f${fields['deed.state']}.now.approved`,
        ({ then, now }: Truth) => (then === 'raised' || then === null) && now === 'approved',
      ],
    ] as const) {
      const rows = (
        await Promise.all(
          ['deed', 'deed_line'].map(async (table) =>
            (await savesOf(table)).map((save) => told.get(`${table} ${save.transaction_id} ${save.record_key}`)!),
          ),
        )
      ).flat()
      const expected = rows.filter(holds).length
      const ids = (scope: Scope) => whereScope(world.db('ledger.save as s'), scope, 'save', 's', Date.now())
      const [row] = await ids(read(link)).count<{ count: string }[]>()
      expect([link, Number(row!.count)]).toEqual([link, expected])
      const [others] = await ids(read(link.replaceAll('=', '=!'))).count<{ count: string }[]>()
      const [all] = await ids({}).count<{ count: string }[]>()
      expect(Number(others!.count)).toBe(Number(all!.count) - expected)
    }
  })

  it('is reckoned with from what is kept and what was touched since as from the whole ledger', async () => {
    let touched = 0
    for (let n = 400; n < 440; n++) {
      await world.business.query(statement(n))
      if (n % 4 !== 0) continue
      await world.collect()
      for (const name of ['thing.state', 'deed.state']) {
        const [typeId, fieldId] = [typeOf[name.split('.')[0]!]!, fields[name]!]
        const some = await world.db.transaction(
          async (trx) => {
            const kept = await livesOf(trx, typeId, fieldId)
            const whole: ReadLife[] = []
            for await (const lives of readLives(trx, typeId, fieldId)) whole.push(...lives)
            const byId = (list: { id: string; life: unknown }[]) => list.sort((a, b) => (a.id < b.id ? -1 : 1))
            expect(byId(kept.ids.map((id, at) => ({ id, key: kept.keys[at], life: kept.lives[at] })))).toEqual(
              byId(whole.map(({ id, key, life }) => ({ id, key, life }))),
            )
            const mark = await markOf(trx, 'spoor.life', fieldId)
            return (await touchedSince(trx, typeId, fieldId, mark, await markNow(trx, typeId)))!
          },
          { isolationLevel: 'repeatable read' },
        )
        touched += some.length
        if (n % 12 === 0) await keepRead(world.db, [fieldId], 'spoor.life')
      }
    }
    // Neither all nor none of them was read from the ledger.
    expect(touched).toBeGreaterThan(20)
    // What scopes ask for follows behind.
    await keepRead(world.db, [fields['thing.state']!, fields['deed.state']!])
    log = (await world.business.query<Logged>('select seq, txid, "table", o, n from logged order by seq')).rows
  })

  it('is read up to the moment at which something is made of it', async () => {
    const fieldId = fields['deed.state']!
    const { scope } = parseScope(new URLSearchParams(`holds=f${fieldId}.now.at the last moment`))
    await keepRead(world.db, [fieldId])
    await world.business.query(`update deed set state = 'at the last moment' where id = (select min(id) from deed)`)
    await world.collect()
    const count = await atMomentOf(world.db, [fieldId], async (trx) => {
      const [row] = await whereScope(trx('ledger.save as s'), scope, 'save', 's', Date.now()).count<
        { count: string }[]
      >()
      return Number(row!.count)
    })
    expect(count).toBeGreaterThan(0)
  })

  it('is forgotten with a value that is erased', async () => {
    const fieldId = fields['thing.state']!
    await world.business.query(`insert into thing (id, state, note) values (9000, 'very secret', 'x')`)
    await world.collect()
    await keepRead(world.db, [fieldId])
    const secret = () => world.db('spoor.held').where({ value: 'very secret' }).select<object[]>()
    expect(await secret()).toHaveLength(1)
    const save = (await savesOf('thing')).at(-1)!
    const id = await askErasure(world.db, world.admin, {
      saveId: save.id,
      fieldId,
      reach: 'change',
      reason: 'the law',
    })
    await world.people.add({ login: 'pat', name: 'Pat', role: 'approver', password: 'password of pat' })
    await carryOut(world.connectEraser, (await world.people.authenticate('pat', 'password of pat'))!, id)
    expect(await secret()).toEqual([])
    await keepRead(world.db, [fieldId])
    expect(await secret()).toEqual([])
    const history = await historyOf(
      world.db,
      [save],
      [{ holds: { part: 'holds', exclude: false, tests: testsOf(fieldId) } }],
    )
    expect(history.get(save.id)!.held).toEqual([])
  })
})

describe('what takes long to read', () => {
  it('is read as a job, is waited for in words, and may be stopped', async () => {
    const fieldId = fields['deed_line.text']!
    await world.db.raw(
      `insert into ledger.save (id, captured_at, source_id, type_id, record_key, label, action, actor_id, actor_kind, claimed, channel, db_login, transaction_id, plan_version, outbox_seq)
       select 1000000 + g, now(), 1, ?, '["' || 50000 + g || '"]', 'line', 'create', 1, 'person', false, 'screen', 'app', g::text, 1, 1000000 + g from generate_series(1, 20001) g`,
      [typeOf['deed_line']!],
    )
    await world.db('ledger.head').update({ last_save_id: '1020001' })
    const ask = () => readHeldValues(world.db, fieldId, world.admin)
    const waits = { code: 'being-read', extra: { progress: { done: 0 } } }
    await expect(ask()).rejects.toMatchObject(waits)
    // Whoever is not to know what limits them is told no name, neither now nor when it was stopped.
    const unnamed = () => keepSoon(world.db, [fieldId], { personId: null, named: false })
    const told = async () =>
      String(await unnamed().then(String, (error: Error) => JSON.stringify([error.message, error])))
    expect(await told()).toContain('Reading what records held')
    expect(await told()).not.toMatch(/text|lines|progress/)
    // Another who asks waits for the same.
    await expect(ask()).rejects.toMatchObject(waits)
    expect(await world.db('spoor.job').where({ kind: 'reading' })).toHaveLength(1)
    await world.db('spoor.job').where({ kind: 'reading' }).update({ stop_asked: true })
    const work = () => workOnce(world, new Reading(world.db))
    await work()
    await expect(ask()).rejects.toMatchObject({ code: 'reading-stopped' })
    expect(await told()).toContain('Reading what records held was stopped')
    await world
      .db('spoor.job')
      .where({ kind: 'reading' })
      .update({ ended_at: world.db.raw(`now() - interval '1 hour'`) })
    await expect(ask()).rejects.toMatchObject(waits)
    await work()
    const { values } = await ask()
    expect(values[0]).toMatchObject({ value: null, records: 20001 })
    // Reading on is short.
    await world.business.query(`update deed_line set text = 'read on' where id = (select min(id) from deed_line)`)
    await world.collect()
    expect((await ask()).values).toContainEqual(expect.objectContaining({ value: 'read on', records: 1 }))
  })
})
