import { afterAll, describe, expect, it } from 'vitest'
import { quoteIdentifier } from '../src/database/identifier.ts'
import { asSuperuser } from './names.ts'
import { compareStanding } from '../src/standing/compare.ts'
import { beginning } from '../src/standing/kept.ts'
import { StandingRecords } from '../src/standing/standing.ts'
import { makeWorld, silentLog, track, type World } from './support.ts'
import { Chance } from './mill/chance.ts'
import { asTables, fetchSchema, packages } from './mill/debian.ts'
import { changeLine, heldRows, oracleSql, toldChanges } from './mill/oracle.ts'
import { replay, readSaves } from './mill/replay.ts'
import { drawSchema, type DrawnSchema, type Table } from './mill/schema.ts'
import { Workload } from './mill/workload.ts'

/** Seeds that failed once stand here for good; `npm run test:faults` draws more of them. */
const kept = [1, 2, 3, 4, 5, 6, 7, 8, 14, 54, 59, 64, 80, 205]
const from = Number(process.env['SPOOR_MILL_FROM'] ?? 0)
const seeds = process.env['SPOOR_MILL_SEEDS']
  ? Array.from({ length: Number(process.env['SPOOR_MILL_SEEDS']) }, (_, at) => from + at)
  : kept

let open: World | null = null
afterAll(async () => {
  await open?.close()
})

/** The tables that are tracked: of a parent and its child the child, since keys of both are one table's only. */
const tracked = (tables: readonly Table[]) =>
  tables.filter((table) => !tables.some((other) => other.parent === table.name))

describe('a schema and a workload that nobody here wrote', () => {
  it.each(seeds)(
    'are captured to the last byte (seed %i)',
    async (seed) => {
      const chance = new Chance(seed)
      const schema = drawSchema(chance, seed % 8 === 5)
      const world = await makeWorld(schema.sql)
      open = world
      // Row triggers of its own would make Spoor watch for what nests; half of the worlds are without.
      await grind(world, schema, seed, { judged: seed % 2 === 0, transactions: 60 })
    },
    240_000,
  )
})

describe('the schema of a real application', () => {
  const all = Object.keys(packages) as (keyof typeof packages)[]
  const wanted = process.env['SPOOR_MILL_SEEDS'] ? all : all.slice(0, 2)
  it.for(wanted)('is captured to the last byte (%s)', { timeout: 240_000 }, async (name, { skip }) => {
    const sql = fetchSchema(name)
    if (sql === null) return skip('its package cannot be fetched here')
    const world = await makeWorld(`${sql}; grant usage on all sequences in schema public to business_app`)
    open = world
    const tables = asTables(await world.sources.refresh(world.sourceId))
    expect(tables.length).toBeGreaterThan(5)
    // What an application brings along was there before it was tracked.
    const names = tables.map((table) => `public.${quoteIdentifier(table.name)}`).join(', ')
    await asSuperuser(world.superuserUrl, (client) => client.query(`truncate ${names} cascade`))
    await grind(world, { tables, sql }, 1, { judged: true, transactions: 150 })
  })
})

/** Tracks every table, writes to them from four sessions, and holds the trail against the tables and the oracle. */
async function grind(
  world: World,
  schema: DrawnSchema,
  seed: number,
  { judged, transactions }: { judged: boolean; transactions: number },
): Promise<void> {
  const tables = tracked(schema.tables)
  if (judged) await asSuperuser(world.superuserUrl, (client) => client.query(oracleSql(tables)))
  await track(world, Object.fromEntries(tables.map((table) => [table.name, '*'])))
  const collector = world.newCollector()
  collector.start()
  const workloads = Array.from({ length: 4 }, (_, at) => new Workload(new Chance(seed * 1000 + at), schema, `w${at}`))
  try {
    await Promise.all(workloads.map((work) => work.run(world.businessAs('business_app'), transactions)))
  } finally {
    await collector.stop()
  }
  await world.collect()

  const { rows: aside } = await world.db.raw<{ rows: unknown[] }>('select why, content from ledger.set_aside')
  expect(aside).toEqual([])
  const following = new StandingRecords(world.db, silentLog)
  while ((await following.readOn()) > 0);
  expect(await compareStanding(world.db)).toEqual([])
  const saves = await readSaves(world)
  for (const table of tables) {
    const now = await heldRows(world.superuserUrl, table)
    expect({ table: table.name, rows: sorted(replay(saves, table)) }).toEqual({ table: table.name, rows: sorted(now) })
    expect({ table: table.name, rows: sorted(await standingRows(world, table.name)) }).toEqual({
      table: table.name,
      rows: sorted(now.map(shortened)),
    })
  }
  if (judged) {
    // A row that moves between partitions is removed and made anew, to a row trigger.
    const whole = tables.filter((table) => !table.partitioned)
    const names = new Set(whole.map((table) => table.name))
    const told = await toldChanges(world.superuserUrl, schema, whole)
    const kept = saves
      .filter((save) => names.has(save.table))
      .flatMap((save) =>
        Object.entries(save.values).map(([column, [before, after]]) =>
          changeLine(save.transaction, save.table, column, before, after),
        ),
      )
    expect(kept.sort()).toEqual(told.sort())
  }
  expect(workloads.reduce((sum, work) => sum + work.done, 0)).toBeGreaterThan(100)
  await world.close()
  open = null
}

/** How records of a table are kept as they stand. */
async function standingRows(world: World, table: string): Promise<Record<string, string | null>[]> {
  const { rows } = await world.db.raw<{ rows: { held: Record<string, string | null> }[] }>(
    `select coalesce((select json_object_agg(f.column_name, v.value ->> 0) from jsonb_each(s.vals) v join spoor.field f on f.id = v.key::int), '{}') as held
       from spoor.standing s join spoor.record_type t on t.id = s.type_id where t.table_name = ? and s.deleted is null`,
    [table],
  )
  return rows.map((row) => row.held)
}

const shortened = (row: Record<string, string | null>) =>
  Object.fromEntries(Object.entries(row).map(([column, value]) => [column, value && beginning(value).value]))

function sorted(rows: Record<string, string | null>[]): string[] {
  return rows
    .map((row) =>
      JSON.stringify(
        Object.entries(row)
          .filter(([, value]) => value !== null)
          .sort(([a], [b]) => (a < b ? -1 : 1)),
      ),
    )
    .sort()
}
