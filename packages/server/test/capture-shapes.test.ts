import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { from as copyFrom } from 'pg-copy-streams'
import { pipeline } from 'node:stream/promises'
import { Readable } from 'node:stream'
import { removeCapture } from '../src/capture/remove.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { withActorContext } from './context.ts'
import { ledger, makeWorld, track, type LedgerEntry, type World } from './support.ts'

const longName = 'a_name_of_exactly_sixty_three_bytes_as_postgresql_allows_at_mst'

let world: World
let seen = 0
beforeAll(async () => {
  world = await makeWorld(`
    create table public.part (id int, region text not null, amount int, primary key (id, region)) partition by list (region);
    create table public.part_north partition of public.part for values in ('north');
    create table public.part_south partition of public.part for values in ('south') partition by range (id);
    create table public.part_south_low partition of public.part_south for values from (0) to (100);
    create table public.family (id int primary key, name text);
    create table public.child_of_family (extra text) inherits (public.family);
    create table public.shifting (id int primary key, one text, two text, three int);
    create table public.reasoned (id int primary key, word text);
    create table public.identified (id int generated always as identity primary key, word text);
    create table public."${longName}" (id int primary key, "${longName}" text);
    create schema "Other Schema"; create table "Other Schema".part (id int primary key, amount int);
    grant usage on schema "Other Schema" to business_app; grant all on all tables in schema "Other Schema" to business_app`)
  await track(world, { part: '*', family: '*', shifting: '*', reasoned: ['word'], identified: '*', [longName]: '*' })
})
afterAll(() => world.close())

const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const asOwner = async (text: string) => (await world.sources.connection(world.sourceId)).raw(text)
async function fresh(): Promise<LedgerEntry[]> {
  await world.collect()
  const all = await ledger(world)
  const since = all.slice(seen)
  seen = all.length
  return since
}
const short = (saves: readonly LedgerEntry[]) => saves.map(({ action, key, values }) => [action, key, values])

describe('partitions', () => {
  it('are captured through the root and when written directly', async () => {
    await sql(`insert into part values (1, 'north', 10), (2, 'south', 20)`)
    await sql(`update part_north set amount = 11`)
    await sql(`update part_south_low set amount = 21`)
    await sql(`delete from part_south where id = 2`)
    expect((await fresh()).map(({ action, key }) => `${action} ${key}`)).toEqual([
      'create ["1","north"]',
      'create ["2","south"]',
      'change ["1","north"]',
      'change ["2","south"]',
      'delete ["2","south"]',
    ])
  })

  it('a row that moves between partitions keeps its trail together', async () => {
    await sql(`update part set region = 'south', amount = 12 where id = 1`)
    const [save, ...more] = await fresh()
    expect(more).toEqual([])
    expect(save).toMatchObject({
      action: 'change',
      keyBefore: '["1","north"]',
      key: '["1","south"]',
      values: { region: ['north', 'south'], amount: ['11', '12'] },
    })
  })

  it('are captured once when truncated, by root or by leaf', async () => {
    await sql(`insert into part values (3, 'north', 1), (4, 'south', 1)`)
    await fresh()
    await asOwner('truncate public.part_north')
    expect((await fresh()).map(({ action, key }) => `${action} ${key}`)).toEqual(['delete ["3","north"]'])
    await asOwner('truncate public.part')
    expect((await fresh()).map(({ action, key }) => `${action} ${key}`).sort()).toEqual([
      'delete ["1","south"]',
      'delete ["4","south"]',
    ])
  })

  it('have namesakes in other schemas that are not taken for them', async () => {
    await sql(`insert into "Other Schema".part values (1, 5)`)
    expect((await fresh()).map(({ key }) => key)).toEqual(['["1"]'])
  })
})

describe('inheritance', () => {
  it('captures rows of children through the parent and directly', async () => {
    await sql(`insert into child_of_family values (7, 'a', 'x')`)
    await sql(`update family set name = 'b' where id = 7`)
    await sql(`update child_of_family set name = 'c'`)
    expect(short(await fresh())).toEqual([
      ['create', '["7"]', { id: [null, '7'], name: [null, 'a'] }],
      ['change', '["7"]', { name: ['a', 'b'] }],
      ['change', '["7"]', { name: ['b', 'c'] }],
    ])
  })
})

describe('other ways of writing', () => {
  it('COPY is captured', async () => {
    const client = await world.business.connect()
    await pipeline(Readable.from(['31\talpha\n32\t\\N\n']), client.query(copyFrom('copy family (id, name) from stdin')))
    client.release()
    expect(short(await fresh())).toEqual([
      ['create', '["31"]', { id: [null, '31'], name: [null, 'alpha'] }],
      ['create', '["32"]', { id: [null, '32'] }],
    ])
  })

  it('a prepared transaction appears when it is committed, whoever commits it', async () => {
    await sql(`begin; update family set name = 'prepared' where id = 31; prepare transaction 'p1'`)
    expect(await fresh()).toEqual([])
    await sql(`update family set name = 'meanwhile' where id = 32`)
    expect((await fresh()).map(({ key }) => key)).toEqual(['["32"]'])
    await sql(`commit prepared 'p1'`)
    expect(short(await fresh())).toEqual([['change', '["31"]', { name: ['alpha', 'prepared'] }]])
  })

  it('identity columns and names of 63 bytes are captured', async () => {
    await sql(`insert into identified (word) values ('x')`)
    await sql(`insert into "${longName}" values (1, 'long')`)
    expect((await fresh()).map(({ values }) => values)).toEqual([
      { id: [null, '1'], word: [null, 'x'] },
      { id: [null, '1'], [longName]: [null, 'long'] },
    ])
  })
})

describe('a table that changes its shape while it is tracked', () => {
  it('is captured on through a rename, a retyping, an added and a dropped column, and no save fails', async () => {
    await sql(`insert into shifting values (1, 'a', 'b', 3)`)
    await fresh()
    await asOwner('alter table public.shifting rename column one to first')
    await sql(`update shifting set first = 'A'`)
    await asOwner('alter table public.shifting alter column three type numeric(8,2)')
    await sql(`update shifting set three = 4.5`)
    await asOwner('alter table public.shifting add column four text')
    await sql(`update shifting set four = 'unseen', first = 'AA'`)
    await asOwner('alter table public.shifting drop column two')
    await sql(`update shifting set first = 'AAA'`)
    await sql(`update shifting set id = 2`)
    await asOwner('alter table public.shifting rename to moved')
    await sql(`update moved set first = 'still'`)
    await sql(`delete from moved`)
    await sql(`insert into moved (id, first) values (3, 'new')`)
    await asOwner('truncate public.moved')
    expect(short(await fresh())).toEqual([
      ['change', '["1"]', { one: ['a', 'A'] }],
      ['change', '["1"]', { three: ['3.00', '4.50'] }],
      ['change', '["1"]', { one: ['A', 'AA'] }],
      ['change', '["1"]', { one: ['AA', 'AAA'] }],
      ['change', '["2"]', { id: ['1', '2'] }],
      ['change', '["2"]', { one: ['AAA', 'still'] }],
      ['delete', '["2"]', { id: ['2', null], one: ['still', null], three: ['4.50', null] }],
      ['create', '["3"]', { id: [null, '3'], one: [null, 'new'] }],
      ['delete', '["3"]', { id: ['3', null], one: ['new', null] }],
    ])
  })
})

describe('the watch over a table’s shape', () => {
  const spells = async (column: string) =>
    await world
      .db('spoor.coverage as c')
      .join('spoor.field as f', 'f.id', 'c.field_id')
      .where('f.column_name', column)
      .orderBy('c.id')
      .select<{ to_at: string | null; ended_because: string | null }[]>('c.to_at', 'c.ended_because')

  it('fits the triggers to it, ends the coverage of what was dropped, and keeps that of what was renamed', async () => {
    await world.watch()
    expect(await spells('two')).toMatchObject([{ ended_because: 'the column is not in the source any more' }])
    expect(await spells('first')).toMatchObject([{ to_at: null }])
    const { rows } = (await asOwner(
      `select prosrc from pg_proc where proname like 'spoor_t%_update' and prosrc like '%x."first" as c2%'`,
    )) as { rows: unknown[] }
    expect(rows).toHaveLength(1)
  })

  it('tracks new columns at once where the plan says so, and leaves them where it does not', async () => {
    const { revision } = await readDraft(world.db, world.sourceId)
    const type = await world.db('spoor.record_type').where({ table_name: 'identified' }).first<{ id: number }>('id')
    await stageDraft(world.db, world.sourceId, revision, [{ typeId: type.id, newColumns: 'track' }], world.adminId)
    await putInForce(world.db, world.sources, world.sourceId, revision + 1, 'new columns count', world.admin)
    await fresh()
    await asOwner(
      'alter table public.identified add column fresh text; alter table public.family add column fresh text',
    )
    await world.watch()
    await sql(`update identified set fresh = 'seen'`)
    await sql(`update family set fresh = 'unseen'`)
    expect((await fresh()).map(({ values }) => values)).toEqual([{ fresh: [null, 'seen'] }])
  })
})

describe('a required reason', () => {
  beforeAll(async () => {
    const { revision } = await readDraft(world.db, world.sourceId)
    const type = await world.db('spoor.record_type').where({ table_name: 'reasoned' }).first<{ id: number }>('id')
    const moved = await world
      .db('spoor.field')
      .where({ column_name: 'two' })
      .first<{ id: number; type_id: number }>('id', 'type_id')
    await stageDraft(
      world.db,
      world.sourceId,
      revision,
      [
        { typeId: type.id, reason: 'required' },
        { typeId: moved.type_id, fieldId: moved.id, keep: 'off' },
      ],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, revision + 1, 'reasons are asked for', world.admin)
  })

  it.each([
    ['no context', null],
    ['an empty one', { actor: 'A', reason: '  ' }],
  ])('with %s refuses the save in words for the user', async (_, context) => {
    const attempt = context
      ? withActorContext(world.business, context, `insert into reasoned values (1, 'x')`)
      : sql(`insert into reasoned values (1, 'x')`)
    await expect(attempt).rejects.toMatchObject({
      code: 'SPR01',
      message: 'This change needs a reason, and none was given. Nothing was saved.',
    })
    expect((await sql('select from reasoned')).rowCount).toBe(0)
  })

  it('is satisfied by one, and not asked for what is not tracked', async () => {
    await withActorContext(world.business, { actor: 'A', reason: 'because' }, `insert into reasoned values (1, 'x')`)
    await sql(`update reasoned set id = 5, word = word where false`)
    await sql(`update reasoned set word = word`)
    expect((await fresh()).map(({ reason }) => reason)).toEqual(['because'])
  })
})

describe('a source in which nothing can be captured', () => {
  it('fails the save rather than keep it untracked', async () => {
    await asOwner('alter table spoor_capture.outbox rename to elsewhere')
    await expect(sql(`update identified set word = 'lost?'`)).rejects.toMatchObject({ code: '42P01' })
    await asOwner('alter table spoor_capture.elsewhere rename to outbox')
    expect((await sql(`select from identified where word = 'lost?'`)).rowCount).toBe(0)
  })
})

describe('taking the capture out', () => {
  it('is refused while rows wait, and then leaves nothing behind', async () => {
    await sql(`update identified set word = 'waiting'`)
    await expect(removeCapture(world.db, world.sources, world.sourceId)).rejects.toMatchObject({ code: 'source-busy' })
    await fresh()
    await removeCapture(world.db, world.sources, world.sourceId)
    const { rows } = (await asOwner(
      `select (select count(*) from pg_namespace where nspname = 'spoor_capture') + (select count(*) from pg_trigger where tgname like 'spoor%') + (select count(*) from pg_proc where proname like 'spoor%') as left_over`,
    )) as { rows: { left_over: string }[] }
    expect(rows[0]!.left_over).toBe('0')
    await sql(`update identified set word = 'free'`)
    const open = await world.db('spoor.coverage').whereNull('to_at')
    expect(open).toEqual([])
  })
})
