import { makeWorld, median, timed } from './world.mjs'

const columns = Array.from({ length: 20 }, (_, at) => `c${at}`)
const types = columns.map((name, at) => `${name} ${['int', 'numeric(10,2)', 'text', 'date', 'boolean'][at % 5]}`)
const values = columns.map(
  (_, at) => ['g', 'g * 1.5', `'some text ' || g`, `date '2026-01-01' + g % 300`, 'g % 2 = 0'][at % 5],
)
const bulkRows = 100_000
const tables = ['plain', 'tracked', 'by_row']
const schema = `${tables.map((table) => `create table public.${table} (id int primary key, ${types.join(', ')});`).join('\n')}
${tables.map((table) => `insert into public.${table} select g, ${values.join(', ')} from generate_series(1, ${bulkRows}) g;`).join('\n')}
create table public.row_log (id bigint generated always as identity primary key, was jsonb, now jsonb);
create function public.log_row() returns trigger language plpgsql as $$ begin
  if to_jsonb(old) <> to_jsonb(new) then insert into public.row_log (was, now) values (to_jsonb(old), to_jsonb(new)); end if; return null; end $$;
create trigger log_row after update on public.by_row for each row execute function public.log_row();`

export async function prepared(cluster, rule = {}) {
  const world = await makeWorld(cluster, schema)
  await world.track({ tracked: columns }, rule)
  await world.business.query('vacuum analyze')
  return world
}

/** One statement over 100,000 rows of 20 tracked columns, one of which changes. */
export async function captureBulk(cluster) {
  const world = await prepared(cluster)
  const rounds = 5
  const took = Object.fromEntries(tables.map((table) => [table, []]))
  for (let round = 0; round < rounds; round++) {
    for (const table of tables)
      took[table].push(await timed(() => world.business.query(`update public.${table} set c0 = c0 + 1`)))
    await world.business.query('truncate spoor_capture.outbox, public.row_log')
    await world.business.query('vacuum')
  }
  await world.close()
  const [plain, tracked, byRow] = tables.map((table) => median(took[table]))
  return [
    {
      name: 'capture-bulk',
      value: tracked,
      unit: 'ms',
      against: 'untracked',
      ratio: tracked / plain,
      target: '<= 3.3',
      holds: tracked / plain <= 3.3,
    },
    {
      name: 'capture-bulk',
      value: tracked,
      unit: 'ms',
      against: 'row trigger comparing JSON',
      ratio: tracked / byRow,
      target: '<= 0.25',
      holds: tracked / byRow <= 0.25,
    },
  ]
}

export async function throughput(world, table, seconds) {
  const clients = await Promise.all(Array.from({ length: 8 }, () => world.business.connect()))
  const until = performance.now() + seconds * 1000
  let done = 0
  await Promise.all(
    clients.map(async (client, n) => {
      for (let i = 0; performance.now() < until; i++) {
        await client.query('begin')
        await client.query(`select set_config('spoor.context', $1, true)`, [
          '{"actor":"Bench","channel":"screen","reason":"load"}',
        ])
        await client.query(`update public.${table} set c0 = c0 + 1 where id = $1`, [
          1 + ((n * 12_500 + i * 7) % bulkRows),
        ])
        await client.query('commit')
        done++
      }
    }),
  )
  for (const client of clients) client.release()
  return done / seconds
}

/** Transactions a second of eight clients, each changing one row with its context set. */
export async function captureSingle(cluster) {
  const world = await prepared(cluster)
  const seconds = 4
  const plain = []
  const tracked = []
  for (let round = 0; round < 3; round++) {
    plain.push(await throughput(world, 'plain', seconds))
    tracked.push(await throughput(world, 'tracked', seconds))
  }
  await world.close()
  const passing = await prepared(cluster, { onFailure: 'pass' })
  const letting = [await throughput(passing, 'plain', seconds), await throughput(passing, 'tracked', seconds)]
  await passing.close()
  const ratio = median(tracked) / median(plain)
  return [
    {
      name: 'capture-single',
      value: letting[1],
      unit: 'transactions/s',
      against: 'untracked; a save that cannot be captured would be let through',
      ratio: letting[1] / letting[0],
      target: '',
      holds: null,
    },
    {
      name: 'capture-single',
      value: median(tracked),
      unit: 'transactions/s',
      against: 'untracked',
      ratio,
      target: '>= 0.55',
      holds: ratio >= 0.55,
    },
  ]
}
