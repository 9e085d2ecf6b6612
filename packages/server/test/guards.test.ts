import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it, onTestFinished } from 'vitest'
import {
  guardActs,
  guardMeets,
  type CapturedValue,
  type Guard,
  type GuardAct,
  type GuardTest,
  type PlanEdit,
} from '@spoor/core'
import { rehearseCorrection } from '../src/corrections/carry-out.ts'
import { draftCorrection } from '../src/corrections/draft.ts'
import { closeGuard, openGuard } from '../src/guards/openings.ts'
import { GuardNotes } from '../src/guards/noting.ts'
import { listFirings, makeWatch } from '../src/watches/store.ts'
import { Watching } from '../src/watches/watching.ts'
import { listGuards, readMet } from '../src/guards/store.ts'
import { tryGuard } from '../src/guards/trial.ts'
import { newGuard } from '../src/tracking/guards.ts'
import { setIdentity } from '../src/people/identities.ts'
import { rehearseDraft } from '../src/tracking/rehearsal.ts'
import { prove } from '../src/tracking/proof.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { wholeCorrection } from './whole-correction.ts'
import { asWritten, makeWorld, silentLog, track, type World } from './support.ts'

let world: World
let typeId: number
let fieldOf: ReadonlyMap<string, number>
const baseTypes: Record<string, string> = {
  id: 'int4',
  status: 'text',
  price: 'numeric',
  rate: 'float8',
  due: 'date',
  seen: 'timestamptz',
  tags: '_text',
  note: 'text',
  flag: 'bool',
}
const columns = Object.keys(baseTypes)
const plain: Guard = {
  name: 'a guard',
  words: 'This is not done here.',
  mode: 'refuse',
  acts: ['change'],
  fieldId: null,
  test: { test: 'any' },
  held: null,
  by: null,
  times: null,
  withoutReason: false,
  above: null,
  zone: 'Europe/London',
}
const field = (column: string) => fieldOf.get(column)!

beforeAll(async () => {
  world = await makeWorld(`
    create table work_order (id int primary key, status text, price numeric(10,2), rate float8, due date, seen timestamptz,
      tags text[], note text, flag bool);
    create table other (id int primary key, r text);
    create table order_line (id int primary key, order_id int not null references work_order on delete cascade, "unit price" numeric)`)
  await track(world, { work_order: columns, other: ['id', 'r'], order_line: ['id', 'order_id', 'unit price'] })
  const fields = await world
    .db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('t.table_name', 'work_order')
    .select<{ id: number; column_name: string; type_id: number }[]>('f.id', 'f.column_name', 'f.type_id')
  fieldOf = new Map(fields.map((one) => [one.column_name, one.id]))
  typeId = fields[0]!.type_id
})
afterAll(() => world.close())

/** Puts these guards in force and no others. @returns their numbers */
const guarded = (...guards: Guard[]) => guardedType(typeId, ...guards)
async function guardedType(of: number, ...guards: Guard[]): Promise<number[]> {
  const draft = await readDraft(world.db, world.sourceId)
  const before = (await listGuards(world.db)).map((one) => ({ typeId: one.typeId, guardId: one.id, guard: null }))
  const ids: number[] = []
  for (const _ of guards) ids.push(await newGuard(world.db, of, world.adminId))
  const edits = guards.map((guard, n) => ({ typeId: of, guardId: ids[n]!, guard }))
  await stageDraft(world.db, world.sourceId, draft.revision, [...before, ...edits], world.adminId)
  await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'guarded by a test', world.admin)
  return ids
}

const notes = () => new GuardNotes(world.sourceId, { db: world.db, sources: world.sources, log: silentLog })
async function look(): Promise<void> {
  while (await notes().look());
}

/** Runs statements in one transaction in which this was said. */
async function within(said: object | null, ...statements: string[]): Promise<string> {
  const client = await world.business.connect()
  try {
    await client.query('begin')
    if (said) await client.query(`select set_config('spoor.context', $1, true)`, [JSON.stringify(said)])
    for (const statement of statements) await client.query(statement)
    const { rows } = await client.query<{ x: string }>('select pg_current_xact_id()::text as x')
    await client.query('commit')
    return rows[0]!.x
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}

const refused = (statement: string, said: object | null = null) => expect(within(said, statement)).rejects

function generator(seed: number) {
  let state = seed
  const below = (n: number) => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0
    return Math.floor((state / 2 ** 32) * n)
  }
  const one = <T>(list: readonly T[]): T => list[below(list.length)]!
  const some = <T>(list: readonly T[]): T[] => list.filter(() => below(2) === 0)
  return { below, one, some }
}

type Row = Record<string, CapturedValue>

async function table(client: pg.PoolClient): Promise<Map<string, Row>> {
  const list = columns.map((column) => `${asWritten(`x.${column}`, column === 'flag')} as ${column}`).join(', ')
  const { rows } = await client.query<Row>(`select ${list} from work_order x`)
  return new Map(rows.map((row) => [row['id']!, row]))
}

const values: Record<string, readonly string[]> = {
  status: [`'draft'`, `'approved'`, `'it''s "done"'`, `''`, `'Ü\\'`, 'null'],
  price: ['0', '10', '10.00', '10.01', '-3', '1250.5', 'null', `'NaN'`],
  rate: ['0', '1e-9', '0.1', '1e300', `'NaN'`, `'Infinity'`, '-2.5', 'null'],
  due: [
    `current_date`,
    `current_date - 1`,
    `current_date + 1`,
    `'infinity'`,
    `'0044-03-15 BC'`,
    `'2020-02-29'`,
    'null',
  ],
  seen: [`now()`, `now() - interval '1 day'`, `now() + interval '2 days'`, `'-infinity'`, 'null'],
  tags: [`'{}'`, `'{a}'`, `'{a,b}'`, `'{b,a}'`, `array['x"y', null, 'a']`, `'[3:4]={a,b}'`, `'{{a,b},{c,d}}'`, 'null'],
  note: [`'x'`, `''`, `'=1+1'`, `repeat('ä', 3000)`, 'null'],
  flag: ['true', 'false', 'null'],
}
const held: Record<string, readonly CapturedValue[]> = {
  status: ['draft', 'approved', 'it\'s "done"', '', 'Ü\\', null],
  price: ['10.00', '0.00', null],
  flag: ['true', 'false', null],
  note: ['x', '', null],
}

function drawGuard({ below, one, some }: ReturnType<typeof generator>): Guard {
  const days = [1, 2, 3, 4, 5, 6, 7]
  const column = one(Object.keys(values))
  const listed = () => {
    const list = some(held[column] ?? [null, 'x'])
    return list.length > 0 ? list : [null]
  }
  const tests: GuardTest[] = [
    { test: 'any' },
    { test: 'emptied' },
    { test: one(['from', 'to', 'to-other'] as const), values: listed() },
    ...(['price', 'rate'].includes(column)
      ? ([
          { test: 'outside', least: one([null, '0', '-2.5']), most: one(['10', '1e2', '1250.50']) },
          { test: one(['rises', 'falls'] as const), by: one(['0', '5', '100', '0.001']), share: below(2) === 0 },
        ] as const)
      : []),
    ...(['due', 'seen'].includes(column) ? ([{ test: one(['past', 'future'] as const) }] as const) : []),
    ...(column === 'tags' ? ([{ test: 'shrinks' }] as const) : []),
  ]
  const ofField = below(4) > 0
  const acts = some(guardActs.filter((act) => !ofField || act !== 'delete'))
  const asked = one(['status', 'price', 'flag', 'note'])
  const heldValues = some(held[asked]!)
  return {
    ...plain,
    mode: 'warn',
    acts: acts.length > 0 ? acts : ['change'],
    fieldId: ofField ? field(column) : null,
    test: ofField ? one(tests) : { test: 'any' },
    held:
      below(3) === 0 && heldValues.length > 0
        ? { fieldId: field(asked), values: heldValues, other: below(2) === 0 }
        : null,
    by:
      below(3) === 0
        ? {
            actors: ['Ada', ...some(['Ben "B"', "it's me"])].slice(below(2)),
            kinds: below(3) === 0 ? some(['person', 'job', 'unknown']) : [],
            channels: below(3) === 0 ? some(['screen', 'direct SQL']) : [],
            logins: one([['business_app'], ['stranger'], ['business_app', 'stranger']]),
            others: below(2) === 0,
          }
        : null,
    times:
      below(4) === 0
        ? {
            days: days.filter(() => below(3) > 0).concat(1),
            from: one(['00:00', '09:00', '22:00']),
            to: one(['00:00', '12:00', '05:00']),
            outside: below(2) === 0,
          }
        : null,
    withoutReason: below(5) === 0,
    above: below(5) === 0 ? one([1, 2, 5]) : null,
    zone: one(['Europe/London', 'Asia/Kolkata', 'America/St_Johns', 'UTC']),
  }
}

function drawStatement({ below, one, some }: ReturnType<typeof generator>): string {
  const id = () => below(12) + 1
  const set = () => {
    const chosen = some(Object.keys(values))
    const written = chosen.length > 0 ? chosen : ['note']
    return written.map((column) => `${column} = ${one(values[column]!)}`).join(', ')
  }
  switch (below(9)) {
    case 0:
      return `delete from work_order where id = ${id()}`
    case 1:
      return `delete from work_order where id % 5 = ${below(5)}`
    case 2:
      return below(6) === 0 ? 'truncate work_order cascade' : `update work_order set id = id + 100 where id = ${id()}`
    case 3:
    case 4: {
      const made = Object.keys(values)
      return `insert into work_order (id, ${made.join(', ')}) select n, ${made.map((column) => one(values[column]!)).join(', ')}
        from generate_series(${id()}, ${id() + 3}) n on conflict do nothing`
    }
    case 5:
      return `update work_order set ${set()}`
    case 6:
      // Keys that move while values do.
      return `update work_order set id = -id, ${set()} where id between 1 and 3`
    default:
      return `update work_order set ${set()} where id = ${id()}`
  }
}

/** What became of the rows by one statement, told by the test itself from the table before and after. */
function savesBetween(before: Map<string, Row>, after: Map<string, Row>, moves: ReadonlyMap<string, string>) {
  const saves: { action: GuardAct; key: string; was: Row | null; is: Row | null }[] = []
  const came = new Set(moves.values())
  for (const [key, was] of before) {
    const now = moves.get(key) ?? (came.has(key) ? undefined : key)
    const is = now === undefined ? undefined : after.get(now)
    if (!is) saves.push({ action: 'delete', key, was, is: null })
    else if (columns.some((column) => was[column] !== is[column])) saves.push({ action: 'change', key: now!, was, is })
  }
  const known = new Set([...before.keys()].map((key) => moves.get(key) ?? key))
  for (const [key, is] of after) if (!known.has(key)) saves.push({ action: 'create', key, was: null, is })
  return saves
}

describe('guards in the source', () => {
  it('meet what they say they meet, and nothing else, in the source, in core and tried on the past', async () => {
    const random = generator(20_261_130)
    const guards = Array.from({ length: 40 }, () => drawGuard(random))
    const ids = await guarded(...guards)
    const expectedTimes = new Map<number, number>()
    let met = 0
    const client = await world.business.connect()
    onTestFinished(() => client.release())
    for (let n = 0; n < 220; n++) {
      const statement = drawStatement(random)
      const said = random.one([
        null,
        { actor: 'Ada' },
        { actor: 'Ben "B"', kind: 'job', channel: 'screen' },
        { actor: "it's me", kind: 'person', reason: '  ' },
        { actor: 'Ada', reason: 'because', channel: 'API' },
      ]) as { actor?: string; kind?: string; channel?: string; reason?: string } | null
      await client.query('begin')
      await client.query(`select set_config('spoor.context', $1, true)`, [said ? JSON.stringify(said) : ''])
      const before = await table(client)
      const went = await client.query(statement).catch((error: { code: string }) => {
        if (error.code !== '23505') throw error // Two records of one key: the business's own rule.
      })
      if (!went) {
        await client.query('rollback')
        continue
      }
      const after = await table(client)
      const plus = statement.includes('id + 100') ? 100 : 0
      const moves = new Map(
        plus > 0
          ? [...before.keys()]
              .filter((key) => statement.endsWith(`id = ${key}`))
              .map((key) => [key, String(Number(key) + 100)])
          : statement.includes('id = -id')
            ? ['1', '2', '3'].filter((key) => before.has(key)).map((key) => [key, `-${key}`])
            : [],
      )
      const saves = savesBetween(before, after, moves)
      const expected = saves.flatMap(({ action, key, was, is }) => {
        const changes = new Map(
          columns
            .map((column) => [field(column), [was?.[column] ?? null, is?.[column] ?? null] as const] as const)
            .filter(([, [from, to]]) => from !== to),
        )
        const save = {
          action,
          changes,
          held: (fieldId: number) => (was ?? is)![[...fieldOf].find(([, id]) => id === fieldId)![0]]!,
          actor: said?.actor ?? null,
          kind: said?.actor ? (said.kind ?? 'person') : 'unknown',
          channel: said?.channel ?? 'direct SQL',
          login: 'business_app',
          reason: said?.reason ?? null,
          at: new Date().toISOString(),
          together: saves.length,
        }
        return guards.flatMap((guard, at) =>
          guardMeets(guard, save, (fieldId) => baseTypes[[...fieldOf].find(([, id]) => id === fieldId)![0]]!)
            ? [`${ids[at]} ${action} ["${key}"]`]
            : [],
        )
      })
      const { rows } = await client.query<{ one: string }>('select 1 as one')
      expect(rows).toHaveLength(1)
      await client.query('commit')
      const source = await world.sources.connection(world.sourceId)
      const { rows: found } = await source.raw<{ rows: { one: string; guard: number }[] }>(
        `select guard || ' ' || action || ' ' || key as one, guard from spoor_capture.guarded`,
      )
      expect([statement, said, found.map(({ one }) => one).sort()]).toEqual([statement, said, expected.sort()])
      met += found.length
      for (const { guard } of found) expectedTimes.set(guard, (expectedTimes.get(guard) ?? 0) + 1)
      await look()
    }
    expect(met).toBeGreaterThan(500)
    await world.collect()
    let compared = 0
    for (const [at, guard] of guards.entries()) {
      const trial = await tryGuard(world.db, { typeId, guard }, Date.now() + 1000)
      expect([guard, trial.times + trial.unknown, trial.cut]).toEqual([guard, expectedTimes.get(ids[at]!) ?? 0, false])
      expect(trial.unknown).toBe(0)
      compared += trial.times
    }
    expect(compared).toBe(met)
    const listed = await listGuards(world.db)
    expect(new Map(listed.map(({ id, warned }) => [id, warned]))).toEqual(
      new Map(ids.map((id) => [id, expectedTimes.get(id) ?? 0])),
    )
  }, 180_000)
})

describe('a guard that refuses', () => {
  const approved: Guard = {
    ...plain,
    name: 'price after approval',
    words: 'The price is fixed once the order is approved. Ask for a variation.',
    fieldId: -1,
    held: { fieldId: -1, values: ['approved'], other: false },
  }
  const rows = async (sql: string) => (await world.business.query<Row>(sql)).rows
  let guardId: number
  let watchId: number
  /** What somebody is told who watches over guards, the latest first. */
  const toldOf = async () => {
    const watching = new Watching({ db: world.db, log: silentLog })
    await Promise.all([watching.look(), new Watching({ db: world.db, log: silentLog }).look()])
    const { firings } = await listFirings(world.db, watchId, undefined)
    return firings.map((one) => one.words.replace('guard “price after approval” ', ''))
  }

  beforeAll(async () => {
    await within(
      null,
      'delete from work_order',
      `insert into work_order (id, status, price, tags) values
      (1, 'draft', 10, '{a,b}'), (2, 'approved', 20, '{a,b}'), (3, 'approved', 30, '{a,b}')`,
    )
    ;[guardId] = (await guarded({
      ...approved,
      fieldId: field('price'),
      held: { ...approved.held!, fieldId: field('status') },
    })) as [number]
    await look()
    ;({ id: watchId } = await makeWatch(
      world.db,
      world.admin,
      {
        scope: '',
        fires: { fires: 'guard' },
        speaks: { speaks: 'once' },
        quiet: null,
        zone: 'UTC',
        people: [world.adminId],
        mail: [],
        receivers: [],
      },
      { mayMail: false },
    ))
  })

  it('does so with its words and a code, nothing is saved, and what it does not mean goes on', async () => {
    const error = await within({ actor: 'Ada' }, 'update work_order set price = 21 where id = 2').catch(
      (caught: unknown) => caught as pg.DatabaseError,
    )
    expect(error).toMatchObject({ code: 'SPR03', message: approved.words })
    expect(JSON.parse((error as pg.DatabaseError).detail!)).toEqual({
      guard: guardId,
      type: typeId,
      action: 'change',
      key: '["2"]',
      label: '2',
      field: field('price'),
    })
    // Approval and price in one save, and the other way round: what counts is what was before.
    await refused(`update work_order set price = 22, status = 'draft' where id = 2`).toMatchObject({ code: 'SPR03' })
    await within(null, `update work_order set price = 11, status = 'approved' where id = 1`)
    await refused('update work_order set price = 12 where id = 1').toMatchObject({ code: 'SPR03' })
    // One of many is enough, by whatever way.
    await refused('update work_order set price = price + 1').toMatchObject({ code: 'SPR03' })
    await refused(
      `insert into work_order (id, price) values (2, 1) on conflict (id) do update set price = excluded.price`,
    ).toMatchObject({ code: 'SPR03' })
    await refused(
      `merge into work_order w using (values (2, 7)) v(id, price) on w.id = v.id when matched then update set price = v.price`,
    ).toMatchObject({ code: 'SPR03' })
    await within(null, `update work_order set note = 'as before' where id = 2`, 'update work_order set price = price')
    expect(await rows('select id::text, price::text from work_order order by id')).toEqual([
      { id: '1', price: '11.00' },
      { id: '2', price: '20.00' },
      { id: '3', price: '30.00' },
    ])
  })

  it('would refuse a correction of Spoor’s own, which its rehearsal says, and is not counted', async () => {
    await world.collect()
    const save = await world
      .db('ledger.change')
      .where({ field_id: field('price'), record_key: '["1"]' })
      .orderBy('save_id', 'desc')
      .first<{ save_id: string }>('save_id')
    const id = await draftCorrection(
      world,
      { changes: [{ saveId: save.save_id, fieldId: field('price') }] },
      world.admin,
    )
    await rehearseCorrection({ db: world.db, sources: world.sources }, id, {}, world.admin)
    expect(JSON.stringify(await wholeCorrection(world, id))).toContain(approved.words)
  })

  it('counts what it refused although nothing of it is left, and knows who where somebody tells', async () => {
    await look()
    const before = (await listGuards(world.db))[0]!
    expect(before).toMatchObject({ refused: 6, told: 0, uncertain: false })
    const error = await within({ actor: 'Ada' }, 'update work_order set price = 21 where id = 2').catch(
      (caught: unknown) => caught as pg.DatabaseError,
    )
    const { detail } = error as pg.DatabaseError
    await world.business.query('select spoor_capture.tell_refused($1, $2)', [detail, '{"actor":"Ada","reason":"why"}'])
    // Whatever else is told leaves nothing but itself.
    const other = { guard: guardId, type: typeId, action: 'change', key: '["2"]', label: '2' }
    for (const odd of [
      '{}',
      '{"guard":"x"}',
      JSON.stringify({ ...other, guard: 999_999 }),
      JSON.stringify({ ...other, type: 99_999_999_999 }),
      JSON.stringify({ ...other, type: typeId + 1 }),
      JSON.stringify({ ...other, action: 'dance' }),
      JSON.stringify({ ...other, key: 7 }),
    ])
      await world.business.query('select spoor_capture.tell_refused($1, null)', [odd]).catch(() => undefined)
    await look()
    expect((await listGuards(world.db))[0]).toMatchObject({ refused: 7, told: 1 })
    expect((await readMet(world.db, guardId))[0]).toMatchObject({
      how: 'refused',
      actor: 'Ada',
      reason: 'why',
      recordKey: '["2"]',
      saveId: null,
    })
    expect(await toldOf()).toEqual(['refused 2, by Ada', 'refused 6 saves'])
  })

  it('is opened for somebody and a spell by somebody else, and every save that passed says so', async () => {
    const wish = { guardId, actor: 'Ada', minutes: 5, reason: 'a variation was signed' }
    await expect(openGuard(world, { ...world.admin, name: 'ada' }, wish)).rejects.toMatchObject({
      code: 'second-person',
    })
    const opening = await openGuard(world, world.admin, wish)
    const transaction = await within({ actor: 'Ada', reason: 'VO 7' }, 'update work_order set price = 25 where id = 2')
    await refused('update work_order set price = 26 where id = 2', { actor: 'Ben' }).toMatchObject({ code: 'SPR03' })
    // A login that is not believed says nothing by saying that it is Ada.
    const stranger = new pg.Client({ connectionString: world.businessAs('stranger') })
    await stranger.connect()
    await stranger.query(`select set_config('spoor.context', '{"actor":"Ada"}', false)`)
    await expect(stranger.query('update work_order set price = 27 where id = 2')).rejects.toMatchObject({
      code: 'SPR03',
    })
    await expect(stranger.query('select * from spoor_capture.guard_open')).rejects.toMatchObject({ code: '42501' })
    await stranger.end()
    await world.collect()
    await look()
    const [passed] = await readMet(world.db, guardId)
    const save = await world.db('ledger.save').where({ transaction_id: transaction }).first<{ id: string }>('id')
    expect(passed).toMatchObject({ how: 'passed', actor: 'Ada', saveId: save.id, openingId: opening.id })
    expect((await toldOf()).slice(0, 2).sort()).toEqual(['let 2 by while it stood open, by Ada', 'refused 2 saves'])
    await closeGuard(world, world.admin, { guardId, openingId: opening.id })
    await refused('update work_order set price = 28 where id = 2', { actor: 'Ada' }).toMatchObject({ code: 'SPR03' })
    // Opened behind Spoor’s back, it is closed and told of.
    const source = await world.sources.connection(world.sourceId)
    await source.raw(`insert into spoor_capture.guard_open values (77, ?, '{Ben}', '{}', now() + interval '1 day')`, [
      guardId,
    ])
    await look()
    await refused('update work_order set price = 29 where id = 2', { actor: 'Ben' }).toMatchObject({ code: 'SPR03' })
    const alarms = await world.db('spoor.alarm').whereLike('words', 'Guard%').pluck<string[]>('words')
    expect(alarms.join()).toContain('which nobody opened in Spoor')
    const words = await world.db('ledger.event').whereLike('words', '%guard%').orderBy('id').pluck<string[]>('words')
    expect(words.join('\n')).toContain(`opened guard ${guardId} for Ada for 5 minutes: a variation was signed`)
  })

  it('is opened for somebody by whatever they are known by in the source, and not closed by who looks meanwhile', async () => {
    const identity = { sourceId: world.sourceId, forActorId: null, fromOn: null, untilOn: null }
    const who = { kind: 'person' as const, name: 'Cai Known' }
    await setIdentity(world.db, { ...identity, by: 'name', text: 'cai7', who })
    await setIdentity(world.db, { ...identity, by: 'login', text: 'stranger', who })
    await look()
    const standing = async () =>
      await world.db('spoor.alarm').where({ code: 'outbox-altered' }).pluck<string[]>('words')
    const before = await standing()
    const looking = { on: true }
    const looked = (async () => {
      while (looking.on) await notes().look()
    })()
    for (let n = 0; n < 8; n++)
      await openGuard(world, world.admin, { guardId, actor: 'Cai Known', minutes: 5, reason: 'a variation' })
    looking.on = false
    await looked
    expect(await standing()).toEqual(before)
    await within({ actor: 'cai7' }, 'update work_order set price = price + 1 where id = 2')
    const stranger = new pg.Client({ connectionString: world.businessAs('stranger') })
    await stranger.connect()
    await stranger.query('update work_order set price = price + 1 where id = 2')
    await stranger.end()
    await refused('update work_order set price = price + 1 where id = 2', { actor: 'cai8' }).toMatchObject({
      code: 'SPR03',
    })
    await look()
    for (const { id } of (await listGuards(world.db))[0]!.openings.slice(0, 8))
      await closeGuard(world, world.admin, { guardId, openingId: id })
  })

  it('is not tried on the past where it asks what a masked field holds', async () => {
    const draft = await readDraft(world.db, world.sourceId)
    await stageDraft(
      world.db,
      world.sourceId,
      draft.revision,
      [{ typeId, fieldId: field('note'), masked: true }],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'masked', world.admin)
    const held = { fieldId: field('note'), values: ['x'], other: false }
    for (const asking of [{ fieldId: field('note'), test: { test: 'emptied' as const } }, { held }])
      await expect(tryGuard(world.db, { typeId, guard: { ...plain, ...asking } }, Date.now())).rejects.toMatchObject({
        code: 'rule-broken',
      })
    await tryGuard(world.db, { typeId, guard: { ...plain, fieldId: field('note') } }, Date.now())
  })

  it('does not keep a proof of the recording from trying every field, and counts none of it', async () => {
    await look()
    const before = (await listGuards(world.db))[0]!.refused
    const proof = await prove(world.db, world.sources, world.sourceId, world.adminId)
    expect(proof.fields.filter((one) => one.typeId === typeId && one.outcome !== 'recorded')).toEqual([])
    await look()
    expect((await listGuards(world.db))[0]!.refused).toBe(before)
  })

  it('lets the business go on, and is told of, where a column it asks of was given another type', async () => {
    await guarded(
      { ...plain, fieldId: field('tags'), test: { test: 'shrinks' } },
      { ...plain, fieldId: field('status'), test: { test: 'to', values: ['gone'] } },
    )
    await refused(`update work_order set tags = '{a}' where id = 3`).toMatchObject({ code: 'SPR03' })
    const owner = new pg.Client({ connectionString: world.businessAs('business_owner') })
    await owner.connect()
    await owner.query(`alter table work_order alter column tags type text using 'no {set'`)
    await within(null, `update work_order set tags = 'none {either' where id = 3`)
    const source = await world.sources.connection(world.sourceId)
    const { rows: missed } = await source.raw<{ rows: { words: string }[] }>('select words from spoor_capture.missed')
    expect(missed.map(({ words }) => words).join()).toContain('A guard could not be asked: malformed array literal')
    await world.watch()
    const told = await world.db('spoor.alarm').where({ code: 'capture-missed' }).pluck<string[]>('words')
    expect(told.join()).toContain('A guard could not be asked')
    // Fitted to the table as it is now, the others hold as before.
    await refused(`update work_order set status = 'gone' where id = 3`).toMatchObject({ code: 'SPR03' })
    await within(null, `update work_order set tags = 'x' where id = 3`)
    expect((await listGuards(world.db)).map(({ trouble }) => trouble)).toEqual([
      expect.stringContaining('cannot answer'),
      null,
    ])
    await owner.end()
  })

  it('asks what the record holds whose line it is, and in vain where that column is gone', async () => {
    const line = await world
      .db('spoor.record_type')
      .where({ table_name: 'order_line' })
      .first<{ id: number; parent_type_id: number }>('id', 'parent_type_id')
    expect(line.parent_type_id).toBe(typeId)
    const price = await world
      .db('spoor.field')
      .where({ type_id: line.id, column_name: 'unit price' })
      .first<{ id: number }>('id')
    const guard: Guard = {
      ...plain,
      fieldId: price.id,
      held: { fieldId: field('status'), values: ['approved'], other: false },
    }
    await guardedType(line.id, guard)
    await within(
      null,
      `update work_order set status = case id when 1 then 'draft' else 'approved' end`,
      'insert into order_line values (1, 1, 5), (2, 2, 5), (3, 3, 5)',
    )
    await within(null, 'update order_line set "unit price" = 6 where id = 1')
    await refused('update order_line set "unit price" = 6 where id = 2').toMatchObject({ code: 'SPR03' })
    await refused('update order_line set "unit price" = 6').toMatchObject({ code: 'SPR03' })
    await world.collect()
    const trial = await tryGuard(
      world.db,
      { typeId: line.id, guard: { ...guard, acts: ['create', 'change'] } },
      Date.now() + 1000,
    )
    expect(trial).toMatchObject({ times: 2, unknown: 0 })
    expect((await listGuards(world.db)).map(({ trouble, standing }) => [trouble, standing])).toEqual([
      [null, 'in force'],
    ])
    const owner = new pg.Client({ connectionString: world.businessAs('business_owner') })
    await owner.connect()
    await owner.query('alter table work_order rename column status to state')
    await within(null, 'update order_line set "unit price" = 7 where id = 2')
    await owner.query('alter table work_order rename column state to status')
    await refused('update order_line set "unit price" = 8 where id = 2').toMatchObject({ code: 'SPR03' })
    // What it asks of is gone: it holds nothing and says so, and what else is captured goes on.
    await owner.query('alter table work_order drop column status')
    await within(null, 'update order_line set "unit price" = 9 where id = 2')
    await world.watch()
    await within(
      null,
      'update order_line set "unit price" = 10 where id = 2',
      'update work_order set price = 5 where id = 2',
    )
    expect((await listGuards(world.db))[0]!.trouble).toContain('is not in the source any more')
    await guarded({
      ...plain,
      fieldId: field('price'),
      held: { fieldId: field('flag'), values: ['true'], other: false },
    })
    await owner.query('alter table work_order drop column flag')
    await world.watch()
    await within(null, 'update work_order set price = 6 where id = 2')
    expect((await listGuards(world.db))[0]!.trouble).toContain('is not in the source any more')
    await world.collect()
    const last = await world
      .db('ledger.change')
      .where({ field_id: field('price') })
      .orderBy('save_id', 'desc')
      .first('after')
    expect(last).toEqual({ after: '6.00' })
    await owner.end()
  })

  it('cannot be what contradicts itself, and leaves nothing when it is taken away', async () => {
    await expect(guarded({ ...plain, acts: ['create', 'change', 'delete'] })).rejects.toMatchObject({
      code: 'plan-contradicts',
    })
    await expect(
      guarded({ ...plain, fieldId: field('note'), test: { test: 'rises', by: '1', share: false } }),
    ).rejects.toMatchObject({ code: 'plan-contradicts' })
    await guarded()
    const source = await world.sources.connection(world.sourceId)
    const { rows: left } = await source.raw<{ rows: { n: string }[] }>(
      `select count(*) as n from pg_class where relname like 'guard%refused' union all select count(*) from pg_proc where prosrc like '%price after approval%'`,
    )
    expect(left.map(({ n }) => n)).toEqual(['0', '0'])
    await within(null, 'update work_order set price = 99')
  })
})

describe('where a trigger of the business writes in between', () => {
  it('guards and a reason that is needed are asked of what the statement itself wrote', async () => {
    const own = await makeWorld(`
      create table public.noted (id int primary key, words text);
      create table public.price (id int primary key, amount numeric, note text);
      insert into public.price select n, n, 'x' from generate_series(1, 3) n;
      create function public.note_it() returns trigger language plpgsql as $$ begin
        insert into public.noted select coalesce(max(id), 0) + 1, 'changed' from public.noted; return null; end $$;
      create trigger note_it after update on public.price for each row execute function public.note_it()`)
    try {
      await track(own, { noted: '*', price: '*' })
      const fields = await own
        .db('spoor.field as f')
        .join('spoor.record_type as t', 't.id', 'f.type_id')
        .where('t.table_name', 'price')
        .select<{ id: number; type_id: number; column_name: string }[]>('f.id', 'f.type_id', 'f.column_name')
      const [amount, note] = ['amount', 'note'].map((name) => fields.find((one) => one.column_name === name)!)
      const guardId = await newGuard(own.db, amount!.type_id, own.adminId)
      const guard: Guard = { ...plain, fieldId: amount!.id, test: { test: 'rises', by: '10', share: false } }
      const draft = await readDraft(own.db, own.sourceId)
      const edits: PlanEdit[] = [{ typeId: amount!.type_id, guardId, guard }]
      await stageDraft(own.db, own.sourceId, draft.revision, edits, own.adminId)
      // A draft of a guard alone is told what it costs.
      const [cost] = await rehearseDraft(own.db, own.sources, own.sourceId)
      expect(cost).toMatchObject({ typeId: amount!.type_id, rows: 3, why: null })
      edits.push({ typeId: note!.type_id, fieldId: note!.id, reason: 'required' })
      await stageDraft(own.db, own.sourceId, draft.revision + 1, edits, own.adminId)
      await putInForce(own.db, own.sources, own.sourceId, draft.revision + 2, 'guarded', own.admin)
      const attempt = (statement: string) =>
        own.business.query(statement).then(
          () => 'saved',
          (error: { code: string }) => error.code,
        )
      expect(await attempt('update price set amount = amount + 5 where id = 1')).toBe('saved')
      for (const where of ['where id = 1', ''])
        expect(await attempt(`update price set amount = amount + 50 ${where}`)).toBe('SPR03')
      expect(await attempt(`update price set note = 'y' where id = 1`)).toBe('SPR01')
    } finally {
      await own.close()
    }
  })
})
