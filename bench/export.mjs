import { Writable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { to as copyTo } from 'pg-copy-streams'
import pg from 'pg'
import { csvLines, exportQuery } from '../packages/server/dist/changes/csv.js'
import { makeWorld } from './world.mjs'

const records = 100_000
const sink = () => new Writable({ write: (_chunk, _encoding, done) => done() })

/** Two hundred thousand changes as CSV, in the columns of the list, against a plain COPY of as many lines. */
export async function exportCsv(cluster) {
  const world = await makeWorld(cluster, 'create table public.rent (id int primary key, amount numeric, note text)')
  try {
    await world.track({ rent: ['amount', 'note'] })
    await world.business.query(
      `insert into public.rent select n, n, 'note ' || n from generate_series(1, ${records}) n`,
    )
    await world.collect()
    const columns = 'time who kind type record action field before after difference reason'.split(' ')
    const order = { list: 'changes', sort: 'time', descending: true }
    const [{ count }] = await world.db('ledger.change').count('* as count')
    let start = performance.now()
    const rows = await exportQuery(world.db, [{}], order, new Set(), Date.now())
    await pipeline([rows.stream(), csvLines(columns, 'Europe/London', () => undefined), sink()])
    const ms = performance.now() - start
    const client = new pg.Client({ connectionString: world.spoorUrl })
    await client.connect()
    start = performance.now()
    const plain =
      'copy (select captured_at, actor_id, actor_kind, type_id, record_key, field_id, before, after from ledger.change order by captured_at desc) to stdout csv'
    await pipeline(client.query(copyTo(plain)), sink())
    const plainMs = performance.now() - start
    await client.end()
    const rate = Number(count) / (ms / 1000)
    return [
      {
        name: 'export-csv',
        value: rate,
        unit: 'lines/s',
        against: `a plain COPY of ${count} lines: ${Math.round(Number(count) / (plainMs / 1000))} lines/s`,
        ratio: plainMs / ms,
        target: '>= 0.5 times',
        holds: plainMs / ms >= 0.5,
      },
    ]
  } finally {
    await world.close()
  }
}
