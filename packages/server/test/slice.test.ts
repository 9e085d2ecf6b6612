import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { toHex } from '@spoor/core'
import { CountSums } from '../src/custody/count-sums.ts'
import { recompute } from '../src/custody/recompute.ts'
import { leavesOf, quickBlocks, readSlice, type Clients } from '../src/custody/slice.ts'
import { SlicesHere, SliceThreads } from '../src/custody/slices.ts'
import { withActorContext } from './context.ts'
import { urlFor } from './names.ts'
import { makeWorld, track, type World } from './support.ts'

/** The quick way from stored bytes to a leaf, held against the plain one, on whatever values may be. */
let world: World
let clients: Clients
let superuser: pg.Client
let last: bigint

const texts = [
  '',
  'n',
  'tn',
  'null',
  '"',
  '\\',
  '\\"',
  'a\nb\tc\rd',
  '\u0001\u001f\u007f',
  'Zoë',
  '日本',
  '🏚️',
  '\u2028\u00a0',
  '<b>&amp;</b>',
  "'; --",
  '0',
  '["1"]',
  ' '.repeat(300),
  'x'.repeat(70_000),
]
const numbers = [
  '0',
  '1',
  '-1',
  '0.1',
  '-0.3',
  '1e30',
  '1e-30',
  'NaN',
  'Infinity',
  '99999999999.9999',
  '123456789012345678901234567890.5',
  null,
]

beforeAll(async () => {
  world = await makeWorld(
    'create table public.thing (name text primary key, said text, amount numeric, at timestamptz, much float8)',
  )
  await track(world, { thing: '*' })
  for (const [at, text] of texts.entries()) {
    const context = {
      actor: `actor ${text.slice(0, 40)}`,
      reason: text.slice(0, 200) || 'none',
      run: `run ${text.slice(0, 90)}`,
      channel: text.slice(0, 30) || 'screen',
      onBehalfOf: text.slice(0, 50),
    }
    const literal = (value: string | null | undefined) =>
      value === null || value === undefined ? 'null' : pg.escapeLiteral(value)
    await withActorContext(
      world.business,
      context,
      `insert into thing values (${literal(`${at}${text.slice(0, 200)}`)}, ${literal(text)}, ${literal(numbers[at % numbers.length])}, 'infinity', 1)`,
    )
  }
  for (const [at, text] of texts.entries()) {
    const other = numbers[(at * 5) % numbers.length]
    await world.business.query('update thing set said = $1, amount = $2, much = amount::float8 where name like $3', [
      text,
      other,
      '%',
    ])
  }
  await world.business.query(
    `insert into thing select 'many ' || n, repeat('long ', n), n from generate_series(1, 600) n`,
  )
  await world.business.query(`update thing set said = repeat('much more ', 300000) where name = 'many 7'`)
  await world.business.query(`update thing set amount = amount / 3, at = 'epoch' where name like 'many%'`)
  await world.collect()
  superuser = new pg.Client({ connectionString: urlFor(world.superuserUrl, world.names.spoor) })
  await superuser.connect()
  const own = async () => {
    const client = new pg.Client({ connectionString: world.spoorUrl })
    await client.connect()
    return client
  }
  clients = [await own(), await own()]
  last = BigInt((await world.db('ledger.head').first<{ last_save_id: string }>('last_save_id')).last_save_id)
})
afterAll(async () => {
  await Promise.all([...clients, superuser].map((client) => client.end()))
  await world.close()
})

const quick = () => quickBlocks(clients, 1n, last + 1n, new CountSums('secret'))
const slice = () => readSlice(clients, { from: 1n, to: last + 1n, secret: 'secret' })

describe('the quick way', () => {
  it('takes every value that was captured, and makes the leaf that the plain way makes', async () => {
    const plain = await recompute(world.db, '1', last.toString())
    expect(plain.length).toBeGreaterThan(1500)
    expect(plain.filter((save) => save.leaf !== save.stored)).toEqual([])
    const leaves = (await quick()).flatMap((bytes) => (bytes ? leavesOf(bytes).map(toHex) : ['odd']))
    expect(leaves).toEqual(plain.map((save) => save.leaf))
  })

  it('leaves to the plain way what is not as it was written, and only that', async () => {
    const risen = (
      await world
        .db('ledger.change')
        .whereNotNull('rise')
        .where('save_id', '>', '1250')
        .min<{ id: string }[]>('save_id as id')
    )[0]!.id
    const all = [
      `update ledger.change set after = after || ' ' where save_id = 300`,
      `update ledger.change set rise = 1 where save_id = ${risen} and rise is not null`,
      `update ledger.change set salt = null where save_id = 900`,
      `update ledger.save set collected_at = 'infinity' where id = 1200`,
      `update ledger.change set captured_at = captured_at - interval '1 second' where save_id = 1500`,
    ]
    await superuser.query('begin')
    for (const statement of all) await superuser.query(statement)
    await superuser.query('commit')
    const { blocks, strays } = await slice()
    const odd = blocks.flatMap(({ saves }) =>
      (saves ?? [])
        .filter((save) => save.leaf !== save.stored || save.changes.some((change) => change.strays.length > 0))
        .map((save) => save.id),
    )
    expect(odd).toEqual(['300', '900', '1200', risen, '1500'])
    expect(new Set(strays.map((one) => one.saveId))).toEqual(new Set(['1500']))
    const plain = await recompute(world.db, '1', last.toString())
    expect(blocks.flatMap(({ leaves }) => leavesOf(leaves).map(toHex))).toEqual(plain.map((save) => save.leaf))
  })
})

describe('the sums of counts', () => {
  const stored = async () => {
    const here = new SlicesHere(world.spoorUrl)
    const { counts, lastSaveId } = await here.stored('secret')
    await here.close()
    expect(lastSaveId).toBe(last.toString())
    const sums = new CountSums('secret')
    sums.take(counts)
    return sums
  }
  const counted = async () => {
    const sums = new CountSums('secret')
    for (const [from, to] of [
      [1n, 400n],
      [400n, last + 1n],
    ] as const)
      sums.take((await readSlice(clients, { from, to, secret: 'secret', countsOnly: true })).counts)
    return sums
  }

  it('are the same on both sides, whatever the slices, and differ for one count that was altered, by however much', async () => {
    await superuser.query(
      `update ledger.change set captured_at = captured_at + interval '1 second' where save_id = 1500`,
    )
    expect((await counted()).differing(await stored())).toEqual([])
    for (const [table, column, of] of [
      ['hour_field', 'changes', 'field'],
      ['hour_actor', 'saves', 'actor'],
      ['hour_actor', 'changes', 'actor'],
      ['month_actor', 'saves', 'month'],
      ['month_actor', 'changes', 'month'],
      ['hour_kind', 'changes', 'kind'],
      ['run', 'saves', 'run'],
    ] as const)
      for (const by of ['1', '-1', '4294967296', '-4294967296']) {
        const row = (await superuser.query<{ ctid: string }>(`select ctid::text from ledger.${table} limit 1`)).rows[0]!
          .ctid
        await superuser.query('begin')
        const { rows } = await superuser.query<{ ctid: string }>(
          `update ledger.${table} set ${column} = ${column} + (${by}) where ctid = $1::tid returning ctid::text`,
          [row],
        )
        await superuser.query('commit')
        expect([table, by, (await counted()).differing(await stored())]).toEqual([table, by, [of]])
        await superuser.query(`update ledger.${table} set ${column} = ${column} - (${by}) where ctid = $1::tid`, [
          rows[0]!.ctid,
        ])
      }
  })
})

describe('whoever reads slices', () => {
  it('says so when the database goes away, in a thread as here', async () => {
    const gone = urlFor(world.spoorUrl, 'spoor_no_such_database', 'spoor_test_app')
    for (const slices of [new SlicesHere(gone), new SliceThreads(gone, 2)]) {
      await expect(slices.read({ from: 1n, to: 2n, secret: '' })).rejects.toThrow(/does not exist/)
      await slices.close()
    }
    const threads = new SliceThreads(world.spoorUrl, 2)
    const reading = Promise.all(Array.from({ length: 8 }, () => threads.read({ from: 1n, to: last + 1n, secret: '' })))
    await superuser.query(
      `select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'spoor checking' and datname = $1`,
      [world.names.spoor],
    )
    await reading.catch((error: Error) =>
      expect(error.message).toMatch(/terminat|stopped|closed|queryable|ECONNRESET/i),
    )
    await threads.close()
    await expect(threads.read({ from: 1n, to: 2n, secret: '' })).rejects.toThrow(/thread/)
  })
})
