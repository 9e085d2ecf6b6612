import { afterAll, describe, expect, it } from 'vitest'
import { quoteIdentifier } from '../src/database/identifier.ts'
import { asSuperuser } from './names.ts'
import { askToReconcile, Reconciling, trackedTypes } from '../src/reconcile/reconciling.ts'
import { Taking } from '../src/tracking/taking.ts'
import { compareStanding } from '../src/standing/compare.ts'
import { beginning } from '../src/standing/kept.ts'
import { StandingRecords } from '../src/standing/standing.ts'
import { applyCorrection, rehearseCorrection } from '../src/corrections/carry-out.ts'
import { draftCorrection } from '../src/corrections/draft.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'
import { secondPerson, wholeCorrection } from './whole-correction.ts'
import { Chance } from './mill/chance.ts'
import { asTables, fetchSchema, packages } from './mill/debian.ts'
import { changeLine, heldRows, oracleSql, toldChanges } from './mill/oracle.ts'
import { replay, readSaves } from './mill/replay.ts'
import { drawSchema, type DrawnSchema, type Table } from './mill/schema.ts'
import { Workload } from './mill/workload.ts'

/** Seeds that failed once stand here for good; `npm run test:faults` draws more of them. */
const kept = [1, 2, 3, 4, 5, 6, 7, 8, 14, 54, 80]
/** These, too, but each takes a quarter of a minute: only there. */
const keptLong = [59, 64, 205]
const from = Number(process.env['SPOOR_MILL_FROM'] ?? 0)
const seeds = process.env['SPOOR_MILL_SEEDS']
  ? [...keptLong, ...Array.from({ length: Number(process.env['SPOOR_MILL_SEEDS']) }, (_, at) => from + at)]
  : kept

/** Every eighth world has tables of hundreds of columns, which take half of the time: there fewer transactions will do. */
const isWide = (seed: number) => seed % 8 === 5
const transactionsOf = (seed: number) => (isWide(seed) && !process.env['SPOOR_MILL_SEEDS'] ? 15 : 60)

/** How many transactions of a world are set back. */
const setBacks = process.env['SPOOR_MILL_SEEDS'] ? 6 : 2

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
      const schema = drawSchema(chance, isWide(seed))
      const world = await makeWorld(schema.sql)
      open = world
      // Row triggers of its own would make Spoor watch for what nests; half of the worlds are without.
      await grind(world, schema, seed, { judged: seed % 2 === 0, transactions: transactionsOf(seed) })
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
  expect(await reconciled(world)).toMatchObject({ differing: 0, moving: 0 })
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
  await undone(world, tables, new Chance(seed))
  expect(workloads.reduce((sum, work) => sum + work.done, 0)).toBeGreaterThan(100)
  await world.close()
  open = null
}

/**
 * Some transactions set back, and that undone: a correction that is refused leaves everything as it was, one that is applied writes
 * what it showed and nothing else of what it may write, and undoing it brings back every value it wrote.
 */
async function undone(world: World, tables: readonly Table[], chance: Chance): Promise<void> {
  const deps = { db: world.db, sources: world.sources }
  const second = await secondPerson(world)
  const held = async () =>
    Object.fromEntries(
      await Promise.all(tables.map(async (table) => [table.name, sorted(await heldRows(world.superuserUrl, table))])),
    ) as Record<string, string[]>
  // A source may have its reasons, and some draw them by lot; then nothing is written.
  const goesThrough = async (id: number, before: Record<string, string[]>) => {
    try {
      await applyCorrection(deps, id, 'ground', second)
      return true
    } catch (error) {
      expect(error).toMatchObject({
        code: expect.stringMatching(/^(nothing-to-revert|source-refused|correction-moved)$/) as string,
      })
      expect(await held()).toEqual(before)
      return false
    }
  }
  const { rows } = await world.db.raw<{ rows: { id: string }[] }>(
    `select min(id) as id from ledger.save group by source_id, transaction_id order by 1`,
  )
  for (let n = 0; n < setBacks && rows.length > 0; n++) {
    const { id } = chance.one(rows)
    const before = await held()
    const correction = await draftCorrection(world, { scope: `how=x${id}` }, world.admin).catch((error: unknown) => {
      expect(error).toMatchObject({ code: 'nothing-to-revert' })
      return null
    })
    if (correction === null) continue
    await rehearseCorrection(deps, correction, {}, world.admin)
    await rehearseCorrection(deps, correction, { leaveRefused: true }, world.admin)
    expect(await held()).toEqual(before)
    const draft = await wholeCorrection(world, correction)
    if (!(await goesThrough(correction, before))) continue
    await world.collect()
    const applied = await wholeCorrection(world, correction)
    const written = applied.items.filter((item) => item.written).length
    expect(written).toBeLessThanOrEqual(draft.writes.values)
    const first = applied.savedAs[0]
    if (first === undefined) continue
    const undo = await draftCorrection(world, { scope: `how=x${first}` }, world.admin)
    await rehearseCorrection(deps, undo, {}, world.admin)
    const back = await wholeCorrection(world, undo)
    if (back.trial!.refusal !== null || back.writes.values === 0) continue
    if (!(await goesThrough(undo, await held()))) continue
    await world.collect()
    // Where rules of the source's own made something else of it, or wrote more, that is theirs.
    const plain = [draft, back].every(({ trial, groups }) => trial!.effects.length === 0 && groups.every(isPlain))
    if (plain && written === draft.writes.values) expect(await held()).toEqual(before)
  }
}

const isPlain = ({ state }: { state: string }) => state !== 'follows' && state !== 'blocked'

/** What all tracked records hold, held against their trail. */
async function reconciled(world: World): Promise<unknown> {
  const key = world.vault.derive('fingerprint')
  await workOnce(world, new Taking(world.db, world.sources, key))
  const following = new StandingRecords(world.db, silentLog)
  while ((await following.readOn()) > 0);
  const id = await world.db.transaction(async (trx) => askToReconcile(trx, await trackedTypes(trx), null))
  await workOnce(world, new Reconciling(world.db, world.sources, key))
  const job = await world.db('spoor.job').where({ id }).first<{ output: unknown; result: string }>('output', 'result')
  // What a policy would hide from the reader is not read at all: neither taken in nor compared.
  const hidden = await world.db('spoor.job').where({ kind: 'taking' }).whereLike('result', '%row-level security%')
  expect(job.result.includes('Left out')).toBe(hidden.length > 0)
  return job.output
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
