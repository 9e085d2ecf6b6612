import Big from 'big.js'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import {
  addDays,
  figureAt,
  figureMoves,
  firstWork,
  microsOf,
  spellAt,
  wallClock,
  type FigureWork,
  type PivotWork,
  type Scope,
} from '@spoor/core'
import { livesOf, type Lives } from '../src/scope/kept-lives.ts'
import { asOfOneMoment } from '../src/database/one-moment.ts'
import { readFigure } from '../src/figures/over-time.ts'
import { readPivot } from '../src/figures/pivot.ts'
import { readStays } from '../src/figures/stays.ts'
import { Taking } from '../src/tracking/taking.ts'
import { drawing } from './drawing.ts'
import { makeWorld, track, workOnce, type World } from './support.ts'

const sumOf = (decimals: readonly string[]) => decimals.reduce((sum, one) => sum.plus(one), new Big(0)).toFixed()

/** What a table really held at a moment. */
interface Seen {
  at: string
  total: string | null
  many: number
  rows: { id: number; weekly: string | null; state: string | null }[]
}

const zone = 'Europe/London'
let world: World
let typeId: number
const fieldIds: Record<string, number> = {}
const seen: Seen[] = []
const states = ['raised', 'approved', 'in progress', 'done']

async function look(): Promise<void> {
  const { rows } = await world.business.query<{ at: string; total: string | null; many: string; rows: Seen['rows'] }>(
    `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at, sum(weekly)::text as total, count(*) as many,
            coalesce(json_agg(json_build_object('id', id, 'weekly', weekly::text, 'state', state)), '[]') as rows from tenancy`,
  )
  const [row] = rows
  seen.push({ ...row!, many: Number(row!.many) })
}

beforeAll(async () => {
  world = await makeWorld(
    `create table public.tenancy (id int primary key deferrable, weekly numeric, state text, contractor int, secret numeric);
     insert into tenancy select n, 80 + n * 1.05, 'raised', n % 3, 1 from generate_series(1, 40) n`,
  )
  await track(world, { tenancy: ['weekly', 'state', 'contractor', 'secret'] })
  await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
  typeId = (await world.db('spoor.record_type').where({ table_name: 'tenancy' }).first<{ id: number }>('id')).id
  for (const { id, name } of await world
    .db('spoor.field')
    .where({ type_id: typeId })
    .select<{ id: number; name: string }[]>('id', 'column_name as name'))
    fieldIds[name] = id
  const draw = drawing(20_261_130)
  const statement = () => {
    const [a, b] = [1 + draw(60), 1 + draw(60)]
    const state = states[draw(states.length)]!
    return [
      () => `update tenancy set weekly = weekly * 1.05 where id % 7 = ${draw(7)}`,
      () => `update tenancy set weekly = ${draw(2) ? `${90 + draw(40)}.${draw(1000)}` : 'null'} where id = ${a}`,
      () => `update tenancy set state = '${state}' where id in (${a}, ${b})`,
      () => `update tenancy set state = '${state}', contractor = ${draw(3)} where id % 5 = ${draw(5)}`,
      () => `insert into tenancy values (${60 + seen.length}, ${70 + draw(90)}.5, 'raised', ${draw(3)}, 2)`,
      () => `delete from tenancy where id = ${a}`,
      // Records that change their keys, also to those of deleted ones, and two that exchange them.
      () => `update tenancy set id = ${b} where id = ${a} and not exists (select from tenancy where id = ${b})`,
      () => `update tenancy set id = ${1000 + seen.length} where id = ${a}`,
      () =>
        `update tenancy set id = case id when ${a} then ${b} else ${a} end where id in (${a}, ${b}) and (select count(*) from tenancy where id in (${a}, ${b})) = 2`,
    ][draw(9)]!()
  }
  await look()
  for (let n = 0; n < 120; n++) {
    await world.business.query(statement())
    await look()
  }
  await world.collect()
})
afterAll(() => world.close())

const lives = (name: string): Promise<Lives> => asOfOneMoment(world.db, (trx) => livesOf(trx, typeId, fieldIds[name]!))

describe('what a field of every record held', () => {
  it('is what the table held at every moment, whatever became of keys', async () => {
    const { keys, lives: own } = await lives('state')
    const now = new Map(seen.at(-1)!.rows.map((row) => [`["${row.id}"]`, row.state]))
    const told = new Map(
      keys.flatMap((key, at) => {
        const { holding } = own[at]!.at(-1)!
        return holding.state === 'absent' ? [] : [[key, holding.state === 'value' ? holding.value : holding.why]]
      }),
    )
    expect(told).toEqual(now)
    for (const { at, rows } of seen) {
      const held = own.flatMap((life) => {
        const { holding } = spellAt(life, microsOf(at))!
        return holding.state === 'absent' ? [] : [holding.state === 'value' ? holding.value : holding.why]
      })
      expect([at, held.sort()]).toEqual([at, rows.map(({ state }) => state).sort()])
    }
  })

  it('adds up to the sum of the table at every moment, and its moves to the difference', async () => {
    const { lives: own } = await lives('weekly')
    const points = figureAt(
      own,
      seen.map(({ at }) => at),
    )
    for (const [n, { total, many }] of seen.entries()) {
      expect(Number(sumOf([points[n]!.total!, `-${total!}`]))).toBe(0)
      expect([points[n]!.numbers + points[n]!.without, points[n]!.unknown]).toEqual([many, 0])
    }
    for (const [from, to] of [
      [0, 120],
      [17, 61],
    ] as const) {
      const { moves, text } = figureMoves(own, seen[from]!.at, seen[to]!.at)
      const moved = text(moves.reduce((sum, { difference }) => sum + difference, 0n))
      expect(Number(sumOf([moved, seen[from]!.total!, `-${seen[to]!.total!}`]))).toBe(0)
    }
  })
})

describe('a figure over time', () => {
  const today = () => wallClock(Date.now(), zone).date
  const read = (work: Partial<FigureWork>) =>
    readFigure(world.db, [{}], { work: { ...firstWork.figure, ...work }, zone }, Date.now())

  it('is split by what moved it, and the parts add up to the last digit', async () => {
    const whole = { a: addDays(today(), -1), b: today() }
    for (const by of ['cause', 'who', 'kind'] as const) {
      const { between } = await read({ fieldId: fieldIds['weekly']!, by, ...whole })
      const parts = between!.parts.map(({ difference }) => difference)
      expect(between!.rest.parts).toBe(0)
      // Before tracking nothing was known: all that is there came to be known, begun or was changed.
      expect(Number(sumOf([...parts, `-${seen.at(-1)!.total!}`]))).toBe(0)
    }
    const { points } = await read({ fieldId: fieldIds['weekly']! })
    expect(points.at(-1)).toMatchObject({ day: today(), records: seen.at(-1)!.many, unknown: 0 })
    expect(Number(sumOf([points.at(-1)!.figure!, `-${seen.at(-1)!.total!}`]))).toBe(0)
    const counted = await read({ fieldId: fieldIds['state']!, reckoning: 'count' })
    expect(counted.points.at(-1)!.figure).toBe(String(seen.at(-1)!.many))
    const { points: means } = await read({ fieldId: fieldIds['weekly']!, reckoning: 'mean' })
    const numbers = seen.at(-1)!.rows.filter(({ weekly }) => weekly !== null).length
    expect(Number(means.at(-1)!.figure)).toBeCloseTo(Number(seen.at(-1)!.total) / numbers, 5)
  })

  it('is not reckoned of what is no number, of nothing, backwards, or of what is masked', async () => {
    await expect(read({ fieldId: fieldIds['state']! })).rejects.toThrow('holds text and no numbers')
    await expect(read({})).rejects.toThrow('No field is named')
    await expect(read({ fieldId: 99_999 })).rejects.toThrow('There is no field 99999')
    await expect(read({ fieldId: fieldIds['weekly']!, a: '2026-05-10', b: '2026-04-01' })).rejects.toThrow(
      'does not come before',
    )
    const [plan] = await world.db('spoor.plan_version').where({ state: 'in force' }).select('version', 'plan')
    plan.plan.types[typeId].fields[fieldIds['secret']!].masked = true
    await world
      .db('spoor.plan_version')
      .where({ version: plan.version })
      .update({ plan: JSON.stringify(plan.plan) })
    await expect(read({ fieldId: fieldIds['secret']! })).rejects.toThrow('is masked')
  })
})

describe('time in value', () => {
  /** Stays and their lengths by SQL written by hand, of records that never changed their keys. */
  const byHand = (ended: string) =>
    world.db
      .raw<{ rows: { state: string; many: string; median: string; p90: string }[] }>(
        `with told as (
           select s.record_key, s.captured_at, s.action, c.before, c.after
             from ledger.save s left join ledger.change c on c.save_id = s.id and c.field_id = ?
            where s.type_id = ? and (c.save_id is not null or s.action <> 'change')),
         stays as (
           select record_key, after as state, captured_at as since, lead(captured_at) over w as until
             from told window w as (partition by record_key order by captured_at))
         select state, count(*) as many, percentile_cont(0.5) within group (order by extract(epoch from until - since) * 1000) as median,
                percentile_disc(0.9) within group (order by extract(epoch from until - since) * 1000) as p90
           from stays where state is not null and until is not null ${ended} group by 1`,
        [fieldIds['state']!, typeId],
      )
      .then(({ rows }) => rows)

  it('has the medians and percentiles that SQL has', async () => {
    // Keys are told by nobody here: those that moved are taken out of both.
    const moved = await world.db('ledger.save').where({ type_id: typeId }).whereNotNull('key_before')
    expect(moved.length).toBeGreaterThan(3)
    const keys = new Set(moved.flatMap(({ record_key, key_before }) => [record_key, key_before]))
    const { keys: all, lives: own } = await lives('state')
    expect(all.filter((key) => !keys.has(key)).length).toBeGreaterThan(20)
    const answer = await readStays(
      world.db,
      [{ record: { part: 'record', exclude: true, lines: false, records: [...keys].map((key) => ({ typeId, key })) } }],
      { work: { ...firstWork.stays, fieldId: fieldIds['state']! }, zone },
      Date.now(),
    )
    const wanted = await byHand(`and record_key <> all('{${[...keys].map((key) => JSON.stringify(key)).join(',')}}')`)
    expect(wanted.length).toBe(4)
    for (const { state, many, median, p90 } of wanted) {
      const group = answer.groups.find(({ name }) => name === state)!
      expect([state, group.many]).toEqual([state, Number(many)])
      expect(group.medianMs).toBeCloseTo(Number(median), 2)
      expect(group.p90Ms).toBeCloseTo(Number(p90), 2)
    }
    // What stays is what stands, and nobody knows since when of those that were found so.
    const now = (state: string) => seen.at(-1)!.rows.filter((row) => row.state === state).length
    for (const state of states) expect(answer.groups.find(({ name }) => name === state)?.goingOn ?? 0).toBe(now(state))
    expect(answer.goingOn).toBe(seen.at(-1)!.many)
    expect(own.length).toBe(all.length)
  })

  it('is told from one value to another by whoever the record belonged to then', async () => {
    const work = { ...firstWork.stays, fieldId: fieldIds['state']!, from: 'raised', to: 'done' }
    const all = await readStays(world.db, [{}], { work: { ...work, by: 'kind' }, zone }, Date.now())
    const by = await readStays(
      world.db,
      [{}],
      { work: { ...work, by: `field.${fieldIds['contractor']!}` }, zone },
      Date.now(),
    )
    expect(all.all.many).toBeGreaterThan(2)
    expect(by.groups.reduce((sum, { many }) => sum + many, 0)).toBe(all.all.many)
    expect(by.groups.map(({ name }) => name).sort()).toEqual(expect.arrayContaining(['0', '1', '2']))
    const steps = all.steps.find(({ from, to }) => from === 'raised' && to === 'done')!
    expect(steps.many).toBeGreaterThanOrEqual(0)
  })

  it('is of a field of a few values only', async () => {
    const work = { ...firstWork.stays, fieldId: fieldIds['weekly']! }
    await expect(readStays(world.db, [{}], { work, zone }, Date.now())).rejects.toThrow('different values')
  })
})

it('is told apart by another field of the record itself, where a key has been that of several', async () => {
  const of = async (value: string) => {
    const work = { ...firstWork.stays, fieldId: fieldIds['state']!, by: `field.${fieldIds['contractor']!}` as const }
    const { groups } = await readStays(world.db, [{}], { work, zone }, Date.now())
    return groups.find((group) => group.of.value === value)?.many ?? 0
  }
  for (const statement of [
    `insert into tenancy values (7000, 1, 'raised', 71), (7001, 1, 'raised', 72)`,
    `update tenancy set state = 'done' where id = 7000`,
    `delete from tenancy where id = 7000`,
    `update tenancy set id = 7000 where id = 7001`,
    `update tenancy set state = 'approved' where id = 7000`,
    `update tenancy set state = 'done' where id = 7000`,
  ])
    await world.business.query(statement)
  await world.collect()
  expect([await of('71'), await of('72')]).toEqual([1, 2])
})

describe('a pivot', () => {
  it('of more than anybody reads is refused, whatever is measured', async () => {
    const { db } = world
    const days = 160
    const nobodys = 9999
    await db.raw(
      `select ledger.ensure_month((now() - make_interval(days => d))::date) from generate_series(0, 400, 15) d`,
    )
    await db.raw(
      `insert into ledger.save (id, captured_at, source_id, type_id, record_key, label, action, actor_id, actor_kind, claimed, channel, db_login, transaction_id, plan_version, outbox_seq)
       select 1000000 + n, now() - make_interval(days => 2 * n), ?, ?, '["x"]', 'x', 'change', 1, 'person', false, 'screen', 'x', n::text, 1, n from generate_series(1, ?) n`,
      [world.sourceId, nobodys, days],
    )
    // Of acts the hourly counts know nothing.
    const scope: Scope = {
      what: { part: 'what', exclude: false, types: [nobodys], fields: [] },
      how: { part: 'how', exclude: false, actions: ['change'], channels: [], runs: [] },
    }
    const read = (work: Partial<PivotWork>) =>
      readPivot(db, [scope], { work: { ...firstWork.pivot, ...work }, zone: 'UTC' }, Date.now())
    for (const measure of ['saves', 'records', 'last'] as const)
      await expect(read({ columns: 'day', measure, empty: false }), measure).rejects.toThrow(`${days} days`)
    expect((await read({ columns: 'month', measure: 'records' })).total).toBe('1')
    expect((await read({ rows: 'day', columns: null, empty: false })).rows).toHaveLength(days)
    await expect(read({ rows: 'who', columns: 'who' })).rejects.toThrow('both by who')
  })

  it('of what is masked is refused, and says so', async () => {
    const secret = { what: { part: 'what' as const, exclude: false, types: [], fields: [fieldIds['secret']!] } }
    const read = (work: Partial<PivotWork>) =>
      readPivot(world.db, [secret], { work: { ...firstWork.pivot, ...work }, zone }, Date.now())
    await expect(read({ measure: 'net' })).rejects.toThrow('is masked')
    await expect(read({ rows: 'after' })).rejects.toThrow('is masked')
    expect((await read({})).rows.length).toBeGreaterThan(0)
  })
})
