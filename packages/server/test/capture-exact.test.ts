import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { applyCorrection, rehearseCorrection } from '../src/corrections/carry-out.ts'
import { draftCorrection } from '../src/corrections/draft.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { asSuperuser } from './names.ts'
import { ledger, makeWorld, track, type LedgerEntry, type World } from './support.ts'
import { wholeCorrection } from './whole-correction.ts'

const wide = Array.from({ length: 1599 }, (_, at) => `c${at} int`).join(', ')
let world: World
let seen = 0
beforeAll(async () => {
  world = await makeWorld(`
    create collation public.nobody_minds (provider = icu, locale = 'und-u-ks-level1', deterministic = false);
    create table public.wide (id int primary key, ${wide});
    create table public.folded (id text collate public.nobody_minds primary key, word text collate public.nobody_minds);
    create table public.equal (k numeric primary key, f float8, j jsonb, i interval, b bpchar);
    create table public.included (id int not null, more text, unique (id) include (more));
    create table public.listed (pos int primary key deferrable, name text);
    create table public.grown (id int, region text, primary key (id, region)) partition by list (region);
    create table public.grown_north partition of public.grown for values in ('north');
    create table public.base (id int primary key, word text);
    create table public.derived (extra text, primary key (id)) inherits (public.base);
    create table public.hidden (id int primary key, word text);
    alter table public.hidden enable row level security; alter table public.hidden force row level security;
    create policy writers on public.hidden to business_app using (true) with check (true);
    create table public.let (id int primary key, word text);
    create type public.sly as (a int);
    create table public.tricked (id int primary key, word public.sly, r text);
    create table public.kept (id int primary key, word text, touched text, place regclass, check (word <> 'never'));
    create function public.touch() returns trigger language plpgsql as $$ begin new.touched := 'by the source'; return new; end $$;
    create trigger touch before update on public.kept for each row execute function public.touch();
    create table public.keyless (id int, word text);
    create table public.nearly (code text unique, word text);
    create table public.split (id int, word text) partition by hash (id);
    create table public.split_0 partition of public.split for values with (modulus 1, remainder 0)`)
  await track(
    world,
    Object.fromEntries(
      ['wide', 'folded', 'equal', 'included', 'listed', 'grown', 'derived', 'hidden', 'let', 'tricked', 'kept'].map(
        (name) => [name, '*'],
      ),
    ),
  )
})
afterAll(() => world.close())

const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const asOwner = (text: string) => asSuperuser(world.businessAs('business_owner'), (client) => client.query(text))
async function fresh(): Promise<LedgerEntry[]> {
  await world.collect()
  const all = await ledger(world)
  const since = all.slice(seen)
  seen = all.length
  return since
}

describe('a table of as many columns as there can be', () => {
  it('is captured one row at a time and many at once', async () => {
    await sql('insert into wide (id, c0, c1598) values (1, 1, 2)')
    await sql('insert into wide (id, c700) values (2, 1), (3, 1)')
    await sql('update wide set c1000 = 5, c1598 = 6')
    await sql('delete from wide where id > 1')
    expect((await fresh()).map((save) => [save.action, save.values])).toEqual([
      ['create', { id: [null, '1'], c0: [null, '1'], c1598: [null, '2'] }],
      ['create', { id: [null, '2'], c700: [null, '1'] }],
      ['create', { id: [null, '3'], c700: [null, '1'] }],
      ['change', { c1000: [null, '5'], c1598: ['2', '6'] }],
      ['change', { c1000: [null, '5'], c1598: [null, '6'] }],
      ['change', { c1000: [null, '5'], c1598: [null, '6'] }],
      ['delete', { id: ['2', null], c700: ['1', null], c1000: ['5', null], c1598: ['6', null] }],
      ['delete', { id: ['3', null], c700: ['1', null], c1000: ['5', null], c1598: ['6', null] }],
    ])
  })
})

describe('what is equal and not the same', () => {
  it('is a change under a collation that calls it equal, of a value and of a key', async () => {
    await sql(`insert into folded values ('Abc', 'Word')`)
    await sql(`update folded set word = 'WORD'`)
    await sql(`update folded set id = 'ABC'`)
    const [, value, key] = await fresh()
    expect(value!.values).toEqual({ word: ['Word', 'WORD'] })
    expect(key).toMatchObject({ keyBefore: '["Abc"]', key: '["ABC"]', values: { id: ['Abc', 'ABC'] } })
  })

  it('is a change of numbers, intervals, documents and padded text, and carries the trail of a key along', async () => {
    await sql(`insert into equal values (1.0, 0, '{"a": 1.0}', '1 day', 'ab')`)
    await sql(`update equal set f = '-0', j = '{"a": 1.00}', i = '24 hours', b = 'ab '`)
    await sql(`update equal set k = 1.00`)
    await sql(`update equal set f = 1`)
    const [, values, key, after] = await fresh()
    expect(values!.values).toEqual({
      f: ['0', '-0'],
      j: ['{"a": 1.0}', '{"a": 1.00}'],
      i: ['1 day', '24:00:00'],
      b: ['ab', 'ab '],
    })
    expect(key).toMatchObject({ keyBefore: '["1.0"]', key: '["1.00"]' })
    expect(after).toMatchObject({ keyBefore: null, key: '["1.00"]' })
  })
})

describe('keys', () => {
  it('are without the columns that an index only carries along', async () => {
    await sql(`insert into included values (1, 'a')`)
    await sql(`update included set more = 'b'`)
    expect((await fresh()).map((save) => [save.key, save.keyBefore])).toEqual([
      ['["1"]', null],
      ['["1"]', null],
    ])
  })

  it('that pass through one another lead each record to its own', async () => {
    await sql(`insert into listed values (1, 'one'), (2, 'two')`)
    await sql(
      `begin; update listed set pos = 0 where pos = 1; update listed set pos = 1 where pos = 2; update listed set pos = 2 where pos = 0; update listed set name = name || '!'; commit`,
    )
    await sql(`update listed set pos = pos + 1`)
    expect(
      (await fresh())
        .slice(2)
        .map((save) => `${save.keyBefore ?? ''} ${save.key} ${save.values['name']?.join('→') ?? ''}`),
    ).toEqual([
      '["1"] ["0"] ',
      '["2"] ["1"] ',
      '["0"] ["2"] ',
      expect.stringMatching(/!$/),
      expect.stringMatching(/!$/),
      '["2"] ["3"] ',
      '["1"] ["2"] ',
    ])
  })
})

describe('partitions and families', () => {
  it('a partition made after the plan is captured from its first row on, directly and through the root, once', async () => {
    await asOwner(
      `create table public.grown_south partition of public.grown for values in ('south') partition by range (id); create table public.grown_south_1 partition of public.grown_south for values from (0) to (1000); grant all on all tables in schema public to business_app`,
    )
    await sql(`insert into grown_south_1 values (1, 'south')`)
    await sql(`insert into grown values (2, 'south'), (3, 'north')`)
    await sql(`update grown set id = id + 10 where region = 'south'`)
    await sql(`delete from grown_south where id = 11`)
    const told = (await fresh()).map((save) => `${save.action} ${save.keyBefore ?? ''} ${save.key}`)
    expect(told.sort()).toEqual([
      'change ["1","south"] ["11","south"]',
      'change ["2","south"] ["12","south"]',
      'create  ["1","south"]',
      'create  ["2","south"]',
      'create  ["3","north"]',
      'delete  ["11","south"]',
    ])
    await world.watch()
    await sql(`insert into grown_south_1 values (4, 'south')`)
    expect((await fresh()).map((save) => save.key)).toEqual(['["4","south"]'])
  })

  it('one that brings rows along is told, with the spell in which nobody saw it', async () => {
    await asOwner(
      `create table public.grown_east (id int, region text, primary key (id, region)); insert into public.grown_east values (9, 'east'); alter table public.grown attach partition public.grown_east for values in ('east'); grant all on public.grown_east to business_app`,
    )
    await world.watch()
    const alarms = await world.db('spoor.alarm').where({ code: 'partition-rows' }).pluck<string[]>('words')
    expect(alarms).toEqual([expect.stringContaining('the partition grown_east brought 1 row that no save created')])
    const gaps = await world.db('spoor.coverage').where('ended_because', 'like', '%grown_east%')
    expect(gaps).toHaveLength(2)
    await sql(`insert into grown values (10, 'east')`)
    expect((await fresh()).map((save) => save.key)).toEqual(['["10","east"]'])
  })

  it('one that is detached is not of the type any more, from that moment on', async () => {
    await asOwner(`alter table public.grown detach partition public.grown_east`)
    await sql(`insert into grown_east values (11, 'east')`)
    expect(await fresh()).toEqual([])
    await world.watch()
    const { rows } = await sql(
      `select tgname from pg_trigger where tgrelid = 'public.grown_east'::regclass and not tgisinternal`,
    )
    expect(rows).toEqual([])
    expect(await world.db('spoor.alarm').where({ code: 'capture-altered', over_at: null })).toEqual([])
  })

  it('a child tracked on its own sees what is written through its parent', async () => {
    await sql(`insert into derived (id, word, extra) values (1, 'a', 'x')`)
    await sql(`update base set word = 'b'`)
    await sql(`delete from base`)
    expect((await fresh()).map((save) => [save.action, save.values['word']])).toEqual([
      ['create', [null, 'a']],
      ['change', ['a', 'b']],
      ['delete', ['b', null]],
    ])
  })
})

describe('rows that a policy hides', () => {
  it('are not truncated unseen', async () => {
    await sql(`insert into hidden values (1, 'a')`)
    await expect(
      asSuperuser(world.businessAs('business_owner'), (client) => client.query('truncate public.hidden')),
    ).rejects.toThrow(/TRUNCATE of .*hidden was refused: its row-level security is forced/)
    expect((await fresh()).map((save) => save.action)).toEqual(['create'])
    await asSuperuser(world.superuserUrl, (client) => client.query('alter role spoor_test_source bypassrls'))
    await asSuperuser(world.businessAs('business_owner'), (client) => client.query('truncate public.hidden'))
    await asSuperuser(world.superuserUrl, (client) => client.query('alter role spoor_test_source nobypassrls'))
    expect((await fresh()).map((save) => [save.action, save.values])).toEqual([
      ['delete', { id: ['1', null], word: ['a', null] }],
    ])
  })
})

describe('nobody’s code but PostgreSQL’s', () => {
  it('runs when values are read, whatever casts, operators and functions of these names somebody has made', async () => {
    const client = new pg.Client({ connectionString: world.businessAs('business_owner') })
    await client.connect()
    await client.query(`
      create schema evil; create table public.stolen (by name);
      create function evil.steal(public.sly) returns text language plpgsql as $$ begin insert into public.stolen values (current_user); return 'stolen'; end $$;
      create cast (public.sly as text) with function evil.steal(public.sly) as implicit;
      create function evil.same(int, int) returns boolean language plpgsql as $$ begin insert into public.stolen values (current_user); return true; end $$;
      create operator evil.= (leftarg = int, rightarg = int, function = evil.same);
      create operator evil.<> (leftarg = int, rightarg = int, function = evil.same);
      create function evil.joined(text, text) returns text language plpgsql as $$ begin insert into public.stolen values (current_user); return ''; end $$;
      create operator evil.|| (leftarg = text, rightarg = text, function = evil.joined);
      create function evil.format(text, public.sly) returns text language plpgsql as $$ begin insert into public.stolen values (current_user); return ''; end $$;
      create function evil.current_setting(text, boolean) returns text language sql as $$ select 'evil' $$`)
    await client.query(`set search_path = evil, public, pg_catalog`)
    await client.query(`insert into tricked values (1, row(1), 'r')`)
    await client.query(`update tricked set word = row(2), r = 's'`)
    await client.query(`insert into tricked values (2, row(1), 'r'), (3, row(1), 'r')`)
    await client.query(`update tricked set word = row(3), id = id + 100`)
    const { rows } = await client.query('select * from public.stolen')
    await client.end()
    expect(rows).toEqual([])
    expect((await fresh()).map((save) => [save.key, save.values['word'], save.values['r'] ?? null])).toEqual([
      ['["1"]', [null, '(1)'], [null, 'r']],
      ['["1"]', ['(1)', '(2)'], ['r', 's']],
      ['["2"]', [null, '(1)'], [null, 'r']],
      ['["3"]', [null, '(1)'], [null, 'r']],
      ['["101"]', ['(2)', '(3)'], null],
      ['["102"]', ['(1)', '(3)'], null],
      ['["103"]', ['(1)', '(3)'], null],
    ])
  })

  it('and nobody else can write as the capture does', async () => {
    const owner = new pg.Client({ connectionString: world.businessAs('business_owner') })
    await owner.connect()
    const { rows } = await owner.query<{ name: string }>(
      `select p.proname as name from pg_proc p where p.pronamespace = 'spoor_capture'::regnamespace and has_function_privilege(p.oid, 'execute')`,
    )
    await owner.end()
    expect(rows.map((row) => row.name).sort()).toEqual([
      'context',
      'reason_of',
      expect.stringMatching(/^spoor_t\d+_row$/),
      // What an application tells of a refusal, which stands beside what is captured and counts for nothing.
      'tell_refused',
    ])
  })
})

describe('hands laid on the capture', () => {
  const settled = async () => {
    await world.watch()
    return await world.db('spoor.alarm').where({ code: 'capture-altered', over_at: null }).pluck<string[]>('words')
  }
  let sensitive = false
  const again = async () => {
    const draft = await readDraft(world.db, world.sourceId)
    const field = await world
      .db('spoor.field as f')
      .join('spoor.record_type as t', 't.id', 'f.type_id')
      .where({ 't.table_name': 'let', 'f.column_name': 'word' })
      .first<{ id: number; type_id: number }>('f.id', 'f.type_id')
    sensitive = !sensitive
    await stageDraft(
      world.db,
      world.sourceId,
      draft.revision,
      [{ typeId: field.type_id, fieldId: field.id, sensitive }],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'mended', world.admin)
  }

  it.each([
    [
      'a trigger switched off and on again in one transaction',
      `begin; alter table public.let disable trigger spoor_t%_update; update public.let set word = 'unseen'; alter table public.let enable always trigger spoor_t%_update; commit`,
    ],
    [
      'a trigger made anew with a condition that never holds',
      `begin; drop trigger spoor_t%_update on public.let; create trigger spoor_t%_update after update on public.let referencing old table as old_rows new table as new_rows for each statement when (false) execute function spoor_capture.spoor_t%_update(); alter table public.let enable always trigger spoor_t%_update; commit`,
    ],
    [
      'a helper put in another’s place',
      `create or replace function spoor_capture.belongs(relation oid, root oid) returns boolean language sql stable as 'select false'`,
    ],
    ['a rule on the outbox', `create rule lose as on insert to spoor_capture.outbox do instead nothing`],
  ])('are told: %s', async (_, deed) => {
    expect(await settled()).toEqual([])
    const { id } = await world.db('spoor.record_type').where({ table_name: 'let' }).first<{ id: number }>('id')
    await asSuperuser(world.superuserUrl, (client) => client.query(deed.replaceAll('spoor_t%', `spoor_t${id}`)))
    expect((await settled()).length).toBeGreaterThan(0)
    await asSuperuser(world.superuserUrl, (client) =>
      client.query(
        `drop rule if exists lose on spoor_capture.outbox; delete from spoor_capture.meta where name = 'base'`,
      ),
    )
    await again()
    expect(await settled()).toEqual([])
  })
})

describe('when capturing itself fails', () => {
  const broken = async (work: () => Promise<unknown>) => {
    const source = await world.sources.connection(world.sourceId)
    await source.raw('alter table spoor_capture.outbox add constraint "full" check (false) not valid')
    await work().finally(() => source.raw('alter table spoor_capture.outbox drop constraint "full"'))
  }
  const typeId = async () =>
    (await world.db('spoor.record_type').where({ table_name: 'let' }).first<{ id: number }>('id')).id

  it('the save is refused unless the plan lets it through', async () => {
    await broken(() => expect(sql(`insert into let values (1, 'a')`)).rejects.toThrow(/"full"/))
    expect((await sql('select from let')).rowCount).toBe(0)
  })

  it('one that is let through is counted, is a gap and an alarm until a plan is put in force again', async () => {
    const draft = await readDraft(world.db, world.sourceId)
    await stageDraft(
      world.db,
      world.sourceId,
      draft.revision,
      [{ typeId: await typeId(), onFailure: 'pass' }],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'work must go on', world.admin)
    await broken(async () => {
      await sql(`insert into let values (1, 'a')`)
      await sql(`update let set word = 'b'`)
    })
    await sql(`update let set word = 'c'`)
    expect((await fresh()).map((save) => save.values)).toEqual([{ word: ['b', 'c'] }])
    await world.watch()
    const alarm = () =>
      world.db('spoor.alarm').where({ code: 'capture-missed', over_at: null }).pluck<string[]>('words')
    expect(await alarm()).toEqual([expect.stringMatching(/2 saves could not be captured and were let through.*"full"/)])
    const gaps = await world.db('spoor.coverage').where('ended_because', 'like', '2 saves could not be captured%')
    expect(gaps).toHaveLength(2)
    const again = await readDraft(world.db, world.sourceId)
    await stageDraft(
      world.db,
      world.sourceId,
      again.revision,
      [{ typeId: await typeId(), onFailure: 'refuse' }],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, again.revision + 1, 'mended', world.admin)
    expect(await alarm()).toEqual([])
  })
})

describe('a revert', () => {
  const admin = () => world.admin
  const deps = () => ({ db: world.db, sources: world.sources })
  const picked = async (saveId: string, columns: readonly string[]) => {
    const fields = await world
      .db('spoor.field as f')
      .join('spoor.record_type as t', 't.id', 'f.type_id')
      .where('t.table_name', 'kept')
      .whereIn('f.column_name', [...columns])
      .pluck<number[]>('f.id')
    const id = await draftCorrection(world, { changes: fields.map((fieldId) => ({ saveId, fieldId })) }, world.admin)
    await rehearseCorrection(deps(), id, {}, admin())
    return await wholeCorrection(world, id)
  }

  it('says what the source made of it where that is not what was written', async () => {
    await sql(`insert into kept values (1, 'a', 'by hand', 'pg_class')`)
    await sql(`update kept set word = 'b', place = 'public.let'`)
    const save = (await fresh()).at(-1)!
    const correction = await picked(save.id, ['word', 'touched', 'place'])
    // A table's name is written in one way, whatever the search path is.
    expect(correction.items.map((item) => item.state)).toEqual(['clear', 'clear', 'clear'])
    await applyCorrection(deps(), correction.id, 'set back', admin())
    const { items } = await wholeCorrection(world, correction.id)
    expect(items.map((item) => [item.target, item.written, item.why])).toEqual([
      ['a', true, null],
      ['by hand', false, 'written, but the source’s own rules put another value in its place'],
      ['pg_class', true, null],
    ])
    await fresh()
  })

  it('finds a record under the key it has by now, and not what has taken its place', async () => {
    await sql(`insert into kept values (2, 'x', null, null)`)
    await sql(`update kept set word = 'y' where id = 2`)
    const save = (await fresh()).at(-1)!
    await sql(`update kept set id = 22 where id = 2`)
    await sql(`insert into kept values (2, 'y', null, null)`)
    await fresh()
    const correction = await picked(save.id, ['word'])
    expect(correction.items).toMatchObject([{ key: '["22"]', state: 'clear', now: 'y', target: 'x' }])
    await applyCorrection(deps(), correction.id, 'set back', admin())
    expect((await sql('select id, word from kept where id in (2, 22) order by id')).rows).toEqual([
      { id: 2, word: 'y' },
      { id: 22, word: 'x' },
    ])
    await fresh()
  })

  it('names each record that the source refuses, with the rule and its detail', async () => {
    await asOwner('alter table public.kept drop constraint kept_word_check')
    await sql(`insert into kept values (31, 'never', null, null), (32, 'once', null, null)`)
    await sql(`update kept set word = 'now' where id in (31, 32)`)
    const saves = (await fresh()).slice(-2)
    await asOwner(`alter table public.kept add constraint kept_word_check check (word <> 'never')`)
    const fieldId = (
      await world
        .db('spoor.field as f')
        .join('spoor.record_type as t', 't.id', 'f.type_id')
        .where({ 't.table_name': 'kept', 'f.column_name': 'word' })
        .first<{ id: number }>('f.id')
    ).id
    const id = await draftCorrection(
      world,
      { changes: saves.map((save) => ({ saveId: save.id, fieldId })) },
      world.admin,
    )
    await rehearseCorrection(deps(), id, {}, admin())
    const { trial } = await wholeCorrection(world, id)
    expect(trial!.refused).toMatchObject([
      { key: '["31"]', words: expect.stringMatching(/kept_word_check.*Failing row contains \(31, never/) as string },
    ])
  })
})

describe('a look that finds nothing new', () => {
  it('writes nothing and takes no number, so that none can run out', async () => {
    const numbers = async () =>
      await asSuperuser(world.superuserUrl.replace(world.names.business, world.names.spoor), async (client) => {
        const { rows } = await client.query<{ name: string; last: string | null }>(
          `select sequencename as name, last_value::text as last from pg_sequences where schemaname = 'spoor' order by 1`,
        )
        return rows
      })
    await world.watch()
    const before = await numbers()
    for (let at = 0; at < 3; at++) await world.sources.refresh(world.sourceId)
    await world.watch()
    expect(await numbers()).toEqual(before)
  })

  it('works with the numbers of fields near their end', async () => {
    await asSuperuser(world.superuserUrl.replace(world.names.business, world.names.spoor), (client) =>
      client.query(`select setval(pg_get_serial_sequence('spoor.field', 'id'), 2147483600)`),
    )
    await asOwner('create table public.late (id int primary key, word text); grant all on public.late to business_app')
    await track(world, { late: '*' })
    await sql(`insert into late values (1, 'a')`)
    expect((await fresh()).map((save) => save.values)).toEqual([{ id: [null, '1'], word: [null, 'a'] }])
    expect(await world.db('ledger.set_aside')).toEqual([])
  })
})

describe('a table without a key', () => {
  it.each(['keyless', 'nearly', 'split'])('%s is refused with a statement that mends it', async (name) => {
    const obstacle = async () =>
      (await world.sources.refresh(world.sourceId)).find((table) => table.table === name)!.obstacle
    const before = await obstacle()
    expect(before!.words).toContain(`public.${name} has no primary key`)
    await asOwner(before!.remedy!)
    expect(await obstacle()).toBeNull()
  })
})
