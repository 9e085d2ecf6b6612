import Big from 'big.js'
import { afterAll, beforeAll, expect, it } from 'vitest'
import {
  addDays,
  figureAt,
  figureMoves,
  firstWork,
  lifeWhile,
  scopeOfPart,
  wallClock,
  type FigureWork,
  type PivotWork,
} from '@spoor/core'
import { asOfOneMoment } from '../src/database/one-moment.ts'
import { readFigure } from '../src/figures/over-time.ts'
import { readPivot } from '../src/figures/pivot.ts'
import { whereScope } from '../src/ledger/scope-sql.ts'
import { livesOf } from '../src/scope/kept-lives.ts'
import { drawing } from './drawing.ts'
import { makeWorld, track, type World } from './support.ts'

const zone = 'Europe/London'
let world: World
let invoiceType: number
interface Sums {
  at: string
  sums: Record<string, string>
}
const sums: Sums[] = []
const ids: Record<string, number> = {}
const currencies = ['EUR', 'GBP', 'SEK']
const figure = (work: Partial<FigureWork>) =>
  readFigure(
    world.db,
    [{}],
    { work: { ...firstWork.figure, fieldId: ids['invoice.amount']!, ...work }, zone },
    Date.now(),
  )
const fieldScope = (name: string) => ({
  what: { part: 'what' as const, exclude: false, types: [], fields: [ids[name]!] },
})
const pivot = (name: string, work: Partial<PivotWork>) =>
  readPivot(
    world.db,
    [fieldScope(name)],
    { work: { ...firstWork.pivot, rows: 'kind', columns: null, measure: 'net', ...work }, zone },
    Date.now(),
  )

async function lookAtSums(): Promise<void> {
  const { rows } = await world.business.query<Sums>(
    `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at,
            (select json_object_agg(currency, sum) from (select currency, sum(amount)::text from invoice where currency is not null group by 1) s) as sums`,
  )
  sums.push(rows[0]!)
}

beforeAll(async () => {
  world = await makeWorld(
    `create table public.invoice (id int primary key, amount numeric, currency text, rate numeric);
     create table public.invoice_line (id int primary key, invoice_id int not null references invoice on delete cascade, price numeric);
     create table public.plain (id int primary key, amount numeric, currency text);
     create table public.quote (id int primary key, amount numeric, currency text)`,
  )
  await track(world, {
    invoice: ['amount', 'currency', 'rate'],
    invoice_line: ['price', 'invoice_id'],
    plain: ['amount', 'currency'],
    quote: ['amount'],
  })
  for (const { id, name } of await world
    .db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .select<{ id: number; name: string }[]>('f.id', world.db.raw(`t.table_name || '.' || f.column_name as name`)))
    ids[name] = id
  invoiceType = (await world.db('spoor.record_type').where({ table_name: 'invoice' }).first<{ id: number }>('id')).id
  const draw = drawing(20_261_202)
  const other = (n: number) => (draw(12) === 0 ? 'null' : `'${currencies[n]!}'`)
  for (let n = 0; n < 60; n++) {
    const [a, b] = [1 + draw(20), 1 + draw(20)]
    const statements = [
      () => `insert into invoice values (${n < 20 ? n + 1 : 100 + n}, ${draw(500)}.25, ${other(draw(3))}, 1)`,
      () => `update invoice set amount = amount * 1.1 where id % 4 = ${draw(4)}`,
      () => `update invoice set currency = ${other(draw(3))} where id % 5 = ${draw(5)}`,
      () => `update invoice set currency = ${other(draw(3))}, amount = ${draw(900)} where id = ${a}`,
      () => `delete from invoice where id = ${a}`,
      () => `update invoice set id = ${b} where id = ${a} and not exists (select from invoice where id = ${b})`,
    ]
    await world.business.query(statements[n < 20 ? 0 : draw(6)]!())
    await lookAtSums()
  }
  await world.business.query(
    `insert into plain select n, n, 'EUR' from generate_series(1, 5) n; update plain set amount = amount + 1;
     insert into quote select n, n, 'EUR' from generate_series(1, 5) n; update quote set amount = amount + 1;
     insert into invoice values (901, 1, 'EUR', 1), (902, 1, 'GBP', 1);
     insert into invoice_line values (1, 901, 10), (2, 902, 20); update invoice_line set price = price + id`,
  )
  await lookAtSums()
  await world.collect()
})

afterAll(() => world.close())

it('has no figure until one is chosen, and that is the sum of what was in it at every moment', async () => {
  const { currency, points, between } = await figure({})
  expect(currency).toMatchObject({ name: 'currency of invoices', chosen: null })
  expect(currency!.values.map(({ name }) => name).sort()).toEqual([...currencies, 'nothing'].sort())
  expect([points, between]).toEqual([[], null])
  const [amounts, told] = await Promise.all(
    ['invoice.amount', 'invoice.currency'].map((name) =>
      asOfOneMoment(world.db, (trx) => livesOf(trx, invoiceType, ids[name]!)),
    ),
  )
  const byId = new Map(told!.ids.map((id, at) => [id, told!.lives[at]!]))
  for (const one of currencies) {
    const own = amounts!.lives.map((life, at) => lifeWhile(life, byId.get(amounts!.ids[at]!), (its) => its === one))
    const at = figureAt(
      own,
      sums.map((sum) => sum.at),
    )
    for (const [n, point] of at.entries())
      expect([n, new Big(point.total!).eq(sums[n]!.sums?.[one] ?? 0)]).toEqual([n, true])
    const answer = await figure({ currency: JSON.stringify([one]) })
    expect(Number(answer.points.at(-1)!.figure)).toBe(Number(sums.at(-1)!.sums[one] ?? 0))
    const { moves, text } = figureMoves(own, sums[10]!.at, sums.at(-1)!.at)
    const moved = text(moves.reduce((sum, { difference }) => sum + difference, 0n))
    expect(Number(moved)).toBeCloseTo(Number(sums.at(-1)!.sums[one] ?? 0) - Number(sums[10]!.sums[one] ?? 0), 9)
  }
  await expect(figure({ currency: '["CHF"]' })).rejects.toThrow('No amount was ever in CHF')
  expect((await figure({ reckoning: 'count', currency: null })).currency).toBeNull()
})

it('leads from what moved it to saves of the amount and of its currency', async () => {
  const [a, b] = [addDays(wallClock(Date.now(), zone).date, -1), wallClock(Date.now(), zone).date]
  const { between, currency } = await figure({ currency: '["EUR"]', by: 'kind', a, b })
  const asked = { fieldId: ids['invoice.amount']!, currencyId: currency!.fieldId, a, b, by: 'kind' as const, zone }
  const scopes = between!.parts.flatMap((part) => scopeOfPart(part, asked) ?? [])
  expect(scopes).toHaveLength(1)
  const saves = world.db('ledger.save as s')
  whereScope(saves, scopes[0]!, 'save', 's', Date.now())
  // By hand: of saves that moved an amount in that currency, or moved a record into it or out of it, none is left out.
  const { rows } = await world.db.raw<{ rows: { id: string }[] }>(
    `select distinct save_id::text as id from ledger.change where field_id = ? and 'EUR' in (before, after) and before is distinct from after`,
    [ids['invoice.currency']!],
  )
  expect(rows.length).toBeGreaterThan(5)
  const found = (await saves.pluck<string[]>('s.id')).map(String)
  expect(found).toEqual(expect.arrayContaining(rows.map(({ id }) => id)))
  const [some] = between!.parts
  expect(scopeOfPart({ ...some!, cause: 'begun' }, asked)).toBeNull()
  expect(scopeOfPart({ ...some!, cause: 'begun' }, { ...asked, currencyId: null })).not.toBeNull()
})

it('has no differences in a pivot that puts them together, also those of lines', async () => {
  await expect(pivot('invoice.amount', {})).rejects.toThrow('several currencies: currency of invoices is')
  await expect(pivot('invoice_line.price', {})).rejects.toThrow(
    'several currencies: currency of invoices is EUR and GBP',
  )
  const held = `held.${ids['invoice.currency']!}` as const
  const { rows, rowTotals, total } = await pivot('invoice_line.price', { rows: held })
  expect(rows.map(({ name }, at) => [name, Number(rowTotals[at])]).sort()).toEqual([
    ['EUR', 1],
    ['GBP', 2],
  ])
  expect(total).toBeNull()
  const across = await pivot('invoice.amount', { rows: 'kind', columns: held, empty: false })
  expect([across.rowTotals, across.total]).toEqual([[null], null])
  expect(across.columnTotals.length).toBeGreaterThan(2)
})

it('is not spoken of where all are of one, and said not to be known where it is not tracked', async () => {
  expect(await pivot('plain.amount', {})).toMatchObject({ total: '5', doubt: null })
  expect(await figure({ fieldId: ids['plain.amount']! })).toMatchObject({ currency: null, doubt: null })
  const doubt = 'Whether these amounts are of one currency is not known: currency of quotes is not tracked.'
  expect(await pivot('quote.amount', {})).toMatchObject({ total: '5', doubt })
  expect(await figure({ fieldId: ids['quote.amount']! })).toMatchObject({ currency: null, doubt })
  expect((await figure({ fieldId: ids['invoice_line.price']! })).doubt).toContain('A pivot looks at it.')
})
