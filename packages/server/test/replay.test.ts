import { spawnSync } from 'node:child_process'
import { readdirSync } from 'node:fs'
import pg from 'pg'
import { afterAll, describe, expect, it } from 'vitest'
import { asSuperuser } from './names.ts'
import { asWritten, makeWorld, track, type World } from './support.ts'

const worlds: World[] = []
afterAll(async () => {
  for (const world of worlds) await world.close()
})

/** A small seeded generator; its seed is printed so that a failure can be played again. */
function chance(seed: number) {
  let state = seed >>> 0
  const next = () => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0
    return state / 4_294_967_296
  }
  return {
    next,
    whole: (most: number) => Math.floor(next() * most),
    pick: <T>(list: readonly T[]) => list[Math.floor(next() * list.length)]!,
  }
}

const columnTypes: Readonly<Record<string, readonly string[]>> = {
  smallint: ['0', '-7', '32767'],
  bigint: ['9007199254740993', '0', '-1'],
  numeric: ['1.10', '1.1', 'NaN', '-0.000'],
  'numeric(8,2)': ['0.00', '12.50', '-99999.99'],
  real: ['0.1', '-0', 'Infinity'],
  'double precision': ['0.30000000000000004', 'NaN', '1e-300'],
  text: ['', 'a', '"q"', "it's", 'line\nbreak', '{}', 'null', '\\'],
  'char(5)': ['a', 'ab', ''],
  bytea: ['\\x', '\\x00ff'],
  date: ['2026-02-28', 'infinity'],
  timestamp: ['2026-10-25 01:30:00.000001', '-infinity'],
  timestamptz: ['2026-10-25 01:30:00+02', '1999-12-31 23:59:59.5+00'],
  interval: ['1 day', '24:00:00', '1 mon -3 days'],
  boolean: ['t', 'f'],
  uuid: ['9b2ad6f8-64b1-4a38-8cf0-2f3c1a27e0ab', '00000000-0000-0000-0000-000000000000'],
  inet: ['10.0.0.1', '::1/64'],
  json: ['null', '{"a": 1.10}', '{"a":1.10}', '""'],
  jsonb: ['null', '{"a": 1.10}', '[]'],
  'text[]': ['{}', '{NULL,"NULL",""}', '{a,b}'],
  'int[]': ['{}', '[2:3]={1,2}', '{{1,2},{3,4}}'],
  int4range: ['empty', '[1,5)', '(,)'],
  mood: ['calm', 'odd'],
  pair: ['(1,"a,b")', '(,)'],
  rate: ['1.2500', '0.0000'],
  citext: ['A', 'a'],
  hstore: ['"a"=>NULL', '"a"=>"", "b"=>"1"', ''],
}
const types = Object.keys(columnTypes)
const tables = ['one', 'two', 'three'] as const

const schema = `create type public.mood as enum ('calm', 'odd'); create type public.pair as (a int, b text); create domain public.rate as numeric(12,4);
${tables.map((table) => `create table public.${table} (k1 int, k2 text, ${types.map((type, at) => `c${at} ${type}`).join(', ')}, primary key (k1, k2));`).join('\n')}`

/** What the ledger, played from empty, makes of a table: rows of texts by key. */
async function replayed(world: World, table: string): Promise<Map<string, Record<string, string | null>>> {
  const { rows } = await world.db.raw<{
    rows: {
      action: string
      record_key: string
      key_before: string | null
      values: Record<string, [string | null, string | null]>
    }[]
  }>(
    `select s.action, s.record_key, s.key_before,
       coalesce((select json_object_agg(f.column_name, json_build_array(c.before, c.after)) from ledger.change c join spoor.field f on f.id = c.field_id where c.save_id = s.id and c.captured_at = s.captured_at), '{}') as values
      from ledger.save s join spoor.record_type t on t.id = s.type_id where t.table_name = ? order by s.id`,
    [table],
  )
  const state = new Map<string, Record<string, string | null>>()
  for (const { action, record_key: key, key_before: keyBefore, values } of rows) {
    const before = state.get(keyBefore ?? key) ?? {}
    // The sequence of after and next before joins without a break, for every field.
    if (action !== 'create')
      for (const [column, [was]] of Object.entries(values))
        expect([table, key, column, was]).toEqual([table, key, column, before[column] ?? null])
    if (keyBefore !== null) state.delete(keyBefore)
    if (action === 'delete') state.delete(key)
    else
      state.set(key, {
        ...(action === 'create' ? {} : before),
        ...Object.fromEntries(Object.entries(values).map(([column, [, after]]) => [column, after])),
      })
  }
  return state
}

async function held(world: World, table: string): Promise<Map<string, Record<string, string | null>>> {
  const columns = ['k1', 'k2', ...types.map((_, at) => `c${at}`)]
  const { rows } = await world.business.query<Record<string, string | null>>(
    `select ${columns.map((column) => `${asWritten(column, types[Number(column.slice(1))] === 'boolean' && column.startsWith('c'))} as ${column}`).join(', ')} from public.${table}`,
  )
  return new Map(rows.map((row) => [JSON.stringify([row['k1'], row['k2']]), row]))
}

const known = (row: Record<string, string | null>) =>
  Object.fromEntries(Object.entries(row).filter(([, value]) => value !== null))

async function workload(world: World, seed: number, steps: number): Promise<void> {
  const { next, whole, pick } = chance(seed)
  const client = new pg.Client({ connectionString: world.businessAs('business_app') })
  await client.connect()
  await client.query(`set lock_timeout = '300ms'`)
  const value = (type: string) => (next() < 0.15 ? null : pick(columnTypes[type]!))
  for (let step = 0; step < steps; step++) {
    const table = pick(tables)
    const at = whole(types.length)
    const [k1, k2] = [whole(12), pick(['a', 'b', '"', ''])]
    try {
      await client.query('begin')
      const kind = next()
      if (kind < 0.3) {
        const set = [at, whole(types.length)]
        await client.query(
          `insert into public.${table} (k1, k2, ${[...new Set(set)].map((n) => `c${n}`).join(', ')}) values ($1, $2, ${[...new Set(set)].map((n, i) => `$${i + 3}::${types[n]}`).join(', ')})
             on conflict (k1, k2) do update set c${at} = excluded.c${at}`,
          [k1, k2, ...[...new Set(set)].map((n) => value(types[n]!))],
        )
      } else if (kind < 0.6)
        await client.query(`update public.${table} set c${at} = $1::${types[at]} where k1 = $2`, [
          value(types[at]!),
          k1,
        ])
      else if (kind < 0.7)
        await client
          .query(
            `update public.${table} set k1 = k1 + 100 * ($1 - k1 / 100) where k1 % 100 = $2 and k2 = $3 and not exists (select from public.${table} o where o.k1 = 100 * ($1 - public.${table}.k1 / 100) + public.${table}.k1 and o.k2 = $3)`,
            [whole(2), k1, k2],
          )
          .catch((error: unknown) => {
            throw error
          })
      else if (kind < 0.8) await client.query(`delete from public.${table} where k1 = $1 and k2 = $2`, [k1, k2])
      else if (kind < 0.95)
        await client.query(`update public.${table} set c${at} = $1::${types[at]}`, [value(types[at]!)])
      else {
        await client.query(`savepoint s`)
        await client.query(`delete from public.${table}`)
        await client.query(`rollback to s`)
      }
      await client.query(next() < 0.15 ? 'rollback' : 'commit')
    } catch (error) {
      await client.query('rollback')
      // Deadlocks, lock waits and key clashes are the business's own; anything else is not expected.
      if (!['40P01', '55P03', '23505'].includes((error as { code?: string }).code ?? '')) throw error
    }
  }
  await client.end()
}

describe('any workload on any types', () => {
  it.each([1, 20_261])('replayed from empty gives every table exactly (seed %i)', async (seed) => {
    const world = await makeWorld(schema)
    worlds.push(world)
    await track(world, Object.fromEntries(tables.map((table) => [table, '*'])))
    const collectors = [world.newCollector(), world.newCollector()]
    for (const collector of collectors) collector.start()
    await Promise.all(Array.from({ length: 8 }, (_, n) => workload(world, seed * 100 + n, 80)))
    for (const collector of collectors) await collector.stop()
    await world.collect()
    let rows = 0
    for (const table of tables) {
      const [now, then] = [await held(world, table), await replayed(world, table)]
      expect([...then.keys()].sort()).toEqual([...now.keys()].sort())
      for (const [key, row] of now) expect([table, key, known(then.get(key)!)]).toEqual([table, key, known(row)])
      rows += now.size
    }
    expect(rows).toBeGreaterThan(5)
  })
})

describe('pgbench’s own script', () => {
  it('leaves as many saves as it made, and differences that sum to the balances', async () => {
    const bin = `/usr/lib/postgresql/${readdirSync('/usr/lib/postgresql').sort().at(-1)}/bin/pgbench`
    const world = await makeWorld('select 1')
    worlds.push(world)
    const url = world.businessAs('business_owner')
    const run = (...args: string[]) => {
      const result = spawnSync(bin, [...args, url], { encoding: 'utf8' })
      expect(result.stderr + result.stdout).not.toMatch(/error|fatal/i)
      return result.stdout
    }
    run('--initialize', '--quiet', '--scale=1')
    const owner = await world.sources.connection(world.sourceId)
    await owner.raw('alter table public.pgbench_history add column id bigint generated always as identity primary key')
    await asSuperuser(world.superuserUrl, (client) =>
      client.query('grant select on all tables in schema public to business_app'),
    )
    await track(world, {
      pgbench_accounts: ['abalance'],
      pgbench_tellers: ['tbalance'],
      pgbench_branches: ['bbalance'],
      pgbench_history: ['delta'],
    })
    const collector = world.newCollector()
    collector.start()
    const said = run('--client=8', '--transactions=60', '--no-vacuum')
    expect(said).toContain('number of transactions actually processed: 480/480')
    await collector.stop()
    await world.collect()
    const { rows } = await world.db.raw<{ rows: { name: string; saves: string; moved: string }[] }>(
      `select t.table_name as name, count(*) as saves, coalesce(sum(c.after::numeric - coalesce(c.before::numeric, 0)), 0) as moved
         from ledger.change c join spoor.record_type t on t.id = c.type_id group by 1`,
    )
    const ofTable = new Map(rows.map((row) => [row.name, row]))
    const { rows: sums } = await world.business.query<{ name: string; balance: string; rows: string; zero: string }>(
      `select 'pgbench_accounts' as name, sum(abalance)::text as balance, (select count(*) from pgbench_history)::text as rows, (select count(*) from pgbench_history where delta = 0)::text as zero from pgbench_accounts
       union all select 'pgbench_tellers', sum(tbalance)::text, (select count(*) from pgbench_history)::text, (select count(*) from pgbench_history where delta = 0)::text from pgbench_tellers
       union all select 'pgbench_branches', sum(bbalance)::text, (select count(*) from pgbench_history)::text, (select count(*) from pgbench_history where delta = 0)::text from pgbench_branches`,
    )
    for (const { name, balance, rows: made, zero } of sums) {
      expect([name, Number(ofTable.get(name)!.moved)]).toEqual([name, Number(balance)])
      // A delta of zero changes nothing and is no save.
      expect([name, Number(ofTable.get(name)!.saves)]).toEqual([name, Number(made) - Number(zero)])
    }
    expect(Number(ofTable.get('pgbench_history')!.saves)).toBe(480)
  })
})
