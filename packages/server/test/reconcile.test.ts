import { setTimeout as sleep } from 'node:timers/promises'
import pg from 'pg'
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import { listAlarms } from '../src/alarms/alarms.ts'
import { listDifferences, settleDifference } from '../src/reconcile/keep.ts'
import { askToReconcile, Reconciling } from '../src/reconcile/reconciling.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { StandingRecords } from '../src/standing/standing.ts'
import { Taking } from '../src/tracking/taking.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'

let world: World
let typeId: number
let owner: pg.Client
beforeAll(async () => {
  world = await makeWorld(`
    create table public.flat (street text, no int, rent numeric, note text, secret text, made timestamptz, primary key (street, no));
    create table public."odd ""t" (id text collate "C" primary key, "a'b" bytea, list text[], flag boolean, big text);
    create table public.prints (id int primary key, word text)`)
  // Before anything is tracked, so that it is taken in as found.
  await sql(`insert into flat select 'Weir, "A"', n, n, 'old', 's', '2026-01-01' from generate_series(1, 30) n`)
  await track(world, { flat: '*', 'odd "t': '*' })
  typeId = (await world.db('spoor.record_type').where({ table_name: 'flat' }).first<{ id: number }>('id')).id
  owner = new pg.Client(world.superuserUrl)
  await owner.connect()
})
afterAll(async () => {
  await owner.end()
  await world.close()
})

const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const fingerprintKey = () => world.vault.derive('fingerprint')

/** Written while no trigger fires, as somebody does who switches them off. */
async function unseen(...statements: string[]): Promise<void> {
  const tables = ['public.flat', 'public."odd ""t"', 'public.prints']
  await owner.query('begin')
  for (const table of tables) await owner.query(`alter table ${table} disable trigger user`)
  for (const statement of statements) await owner.query(statement)
  for (const table of tables)
    await owner.query(`do $$ declare name name; begin
      for name in select tgname from pg_trigger where tgrelid = '${table}'::regclass and not tgisinternal loop
        execute format('alter table ${table} enable always trigger %I', name);
      end loop; end $$`)
  await owner.query('commit')
}
async function follow(): Promise<void> {
  await world.collect()
  const standing = new StandingRecords(world.db, silentLog)
  while ((await standing.readOn()) > 0);
}
async function work(): Promise<void> {
  await workOnce(
    world,
    new Reconciling(world.db, world.sources, fingerprintKey()),
    new Taking(world.db, world.sources, fingerprintKey()),
  )
}
async function reconcile(types: readonly number[] = [typeId]): Promise<string> {
  const id = await world.db.transaction((trx) => askToReconcile(trx, types, world.adminId))
  await work()
  return (await world.db('spoor.job').where({ id }).first<{ result: string }>('result')).result
}
const open = async () => (await listDifferences(world.db, { settled: false })).differences
const alarms = async () => (await listAlarms(world.db, { settled: false, codes: ['record-differs'] })).alarms

describe('what records hold against what their trail says', () => {
  beforeEach(async () => {
    await work()
    await follow()
  })

  it('agrees where everything was captured or found', async () => {
    await sql(`insert into flat values ('Pound', 1, 10, null, null, null)`)
    await sql(`update flat set rent = rent + 1 where no = 3`)
    await sql(`insert into "odd ""t" values ('k', '\\x00ff', array['a','b "c"', null], true, repeat('long ', 3000))`)
    await follow()
    const types = await world.db('spoor.record_type').whereIn('table_name', ['flat', 'odd "t']).pluck<number[]>('id')
    expect(await reconcile(types)).toBe('Held 32 records against their trail: all as it says.')
    expect(await open()).toEqual([])
  })

  it('finds, names and dates what was written with triggers switched off', async () => {
    const [before] = (await owner.query<{ at: Date }>('select clock_timestamp() as at')).rows
    await unseen(
      `update flat set rent = 31313131 where no = 5`,
      `update "odd ""t" set big = big || 'x', list = '{}'`,
      `delete from flat where no = 6`,
      `insert into flat values ('New', 1, 1, 'n', 's', null)`,
    )
    const types = await world.db('spoor.record_type').whereIn('table_name', ['flat', 'odd "t']).pluck<number[]>('id')
    expect(await reconcile(types)).toContain('5 differences')
    const found = await open()
    const fields = new Map(
      (await world.db('spoor.field').select('id', 'column_name')).map((row: { id: number; column_name: string }) => [
        row.id,
        row.column_name,
      ]),
    )
    expect(
      found
        .map(({ key, fieldId, kind, trail, source, cut }) => [
          key,
          fieldId === null ? null : fields.get(fieldId),
          kind,
          cut ? [trail?.length, source?.length] : [trail, source],
        ])
        .sort((a, b) => JSON.stringify(a).localeCompare(JSON.stringify(b))),
    ).toEqual([
      ['["k"]', 'big', 'value', [2000, 2000]],
      ['["k"]', 'list', 'value', ['{a,"b \\"c\\"",NULL}', '{}']],
      ['["New","1"]', null, 'unheard', [null, null]],
      ['["Weir, \\"A\\"","5"]', 'rent', 'value', ['5', '31313131']],
      ['["Weir, \\"A\\"","6"]', null, 'gone', [null, null]],
    ])
    // It came about after the look that still agreed, and by this one.
    const rent = found.find(({ source }) => source === '31313131')!
    expect(Date.parse(rent.after!)).toBeLessThan(before!.at.getTime())
    expect(Date.parse(rent.seenAt)).toBeGreaterThan(before!.at.getTime())
    const told = await alarms()
    expect(told).toHaveLength(5)
    expect(told.some(({ words }) => words.includes('31313131'))).toBe(false)
    // Looked at again nothing is told twice.
    await reconcile(types)
    expect(await open()).toHaveLength(5)
    expect(await alarms()).toHaveLength(5)
  })

  it('is settled with words, taken in as found, or over when it agrees again', async () => {
    const all = await open()
    const of = (part: string) => all.find(({ key, fieldId }) => key.includes(part) && fieldId !== null)!
    const taken = await settleDifference(
      world.db,
      of('"5"').id,
      { why: 'the import was right', takeIn: true },
      world.adminId,
    )
    expect(taken.settled).toMatchObject({ by: 'Ada Admin', takenIn: true })
    const gone = all.find(({ kind }) => kind === 'gone')!
    await expect(
      settleDifference(world.db, gone.id, { why: 'gone', takeIn: true }, world.adminId),
    ).rejects.toMatchObject({ code: 'rule-broken' })
    await settleDifference(world.db, gone.id, { why: 'deleted by the vendor', takeIn: false }, world.adminId)
    await expect(
      settleDifference(world.db, gone.id, { why: 'twice', takeIn: false }, world.adminId),
    ).rejects.toMatchObject({ code: 'rule-broken' })
    await unseen(`update "odd ""t" set list = array['a','b "c"', null]`)
    await work()
    await follow()
    const types = await world.db('spoor.record_type').whereIn('table_name', ['flat', 'odd "t']).pluck<number[]>('id')
    await reconcile(types)
    expect((await open()).map(({ kind, key }) => [kind, key]).sort()).toEqual(
      [
        ['unheard', '["New","1"]'],
        ['value', '["k"]'],
      ].sort(),
    )
    // What was taken in is known from then on.
    expect(await world.db('ledger.found').where({ record_key: '["Weir, \\"A\\"","5"]' })).toHaveLength(2)
    expect((await alarms()).filter(({ overAt }) => overAt === null)).toHaveLength(2)
    // What was settled as it is comes up again when it changes once more, and not before.
    await unseen(`update flat set rent = 778 where no = 5`)
    await reconcile()
    expect((await open()).filter(({ source }) => source === '778')).toHaveLength(1)
  })

  it('calls nothing a difference that is on its way', async () => {
    await sql('delete from flat')
    await sql(`insert into flat select 'Busy', n, n from generate_series(1, 40) n`)
    await follow()
    await reconcile()
    const before = (await open()).length
    let going = true
    const collecting = (async () => {
      const collector = world.newCollector()
      while (going) await collector.collectOnce()
    })()
    const writing = Promise.all(
      [1, 2, 3].map(async (writer) => {
        for (let n = 0; going; n++) {
          await sleep(15)
          const no = 1 + ((n * 7 + writer) % 40)
          if (n % 9 === 0) await sql(`delete from flat where no = $1`, [no])
          else
            await sql(
              `insert into flat values ('Busy', $1, $2) on conflict (street, no) do update set rent = excluded.rent`,
              [no, n],
            )
        }
      }),
    )
    const said = await reconcile()
    going = false
    await Promise.all([collecting, writing])
    expect([said, (await open()).slice(0, (await open()).length - before)]).toEqual([
      expect.stringContaining('all as it says'),
      [],
    ])
    expect(await open()).toHaveLength(before)
  }, 120_000)

  it('finds it also where the watch has seen by then that nothing was captured', async () => {
    await sql(`insert into flat values ('Watched', 1, 1)`)
    await follow()
    await world.watch()
    await unseen(`update flat set rent = 55555 where street = 'Watched'`)
    await world.watch()
    const ended = await world
      .db('spoor.coverage as c')
      .join('spoor.field as f', 'f.id', 'c.field_id')
      .where({ 'f.type_id': typeId, 'c.to_at': null })
    expect(ended).toEqual([])
    await reconcile()
    const found = (await open()).find(({ key }) => key === '["Watched","1"]')!
    expect(found).toMatchObject({ trail: '1', source: '55555' })
    await expect(
      settleDifference(world.db, found.id, { why: 'seen', takeIn: true }, world.adminId),
    ).rejects.toMatchObject({ code: 'rule-broken' })
    await settleDifference(world.db, found.id, { why: 'seen', takeIn: false }, world.adminId)
  })

  it('takes nothing for known that was not tracked all along', async () => {
    await sql('delete from prints')
    const rules = (keep: 'values' | 'off') => track(world, { prints: ['id', 'word'] }, keep)
    await world.sources.refresh(world.sourceId)
    const { id } = await world.db('spoor.record_type').where({ table_name: 'prints' }).first<{ id: number }>('id')
    const declined = [{ typeId: id, asFound: 'leave' as const }]
    const stage = async (edits: Parameters<typeof stageDraft>[3]) => {
      const { revision } = await readDraft(world.db, world.sourceId)
      await stageDraft(world.db, world.sourceId, revision, edits, world.adminId)
    }
    await track(world, { prints: ['id'] })
    await sql(`insert into prints values (1, 'set while nobody looked')`)
    await stage(declined)
    await rules('values')
    await follow()
    expect(await reconcile([id])).toContain('all as it says')
    await sql(`update prints set word = 'seen'`)
    await follow()
    await rules('off')
    await sql(`update prints set word = 'unseen'`)
    await stage(declined)
    await rules('values')
    await follow()
    expect(await reconcile([id])).toContain('all as it says')
    await rules('off')
    await sql('delete from prints')
  })

  it('holds fingerprints against fingerprints, and looks into no erased value', async () => {
    await track(world, { prints: '*' }, 'fingerprint')
    await sql(`insert into prints values (1, 'secret'), (2, 'other'), (3, null)`)
    await follow()
    await work()
    const { id } = await world.db('spoor.record_type').where({ table_name: 'prints' }).first<{ id: number }>('id')
    await follow()
    expect(await reconcile([id])).toContain('all as it says')
    await unseen(`update prints set word = 'another' where id < 3`)
    await world.db.raw(
      `update spoor.standing set vals = (select jsonb_object_agg(k, case when v ->> 0 is not null and length(v ->> 0) > 20
         then jsonb_build_array(null, v -> 1, v -> 2, 'erased') else v end) from jsonb_each(vals) as e(k, v))
        where type_id = ? and record_key = '["2"]'`,
      [id],
    )
    await reconcile([id])
    expect((await open()).filter((one) => one.typeId === id)).toHaveLength(1)
    expect(await open()).toContainEqual(
      expect.objectContaining({ typeId: id, key: '["1"]', source: expect.not.stringContaining('another') as string }),
    )
  })
})
