import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest'
import { withActorContext } from './context.ts'
import { asSuperuser } from './names.ts'
import { asWritten, ledger, makeWorld, track, type World } from './support.ts'

const schema = `
create domain public.rate as numeric(12,4) check (value >= 0);
create type public.mood as enum ('calm', 'it''s; "odd"');
create type public.pair as (a int, b text);
create table public.everything (
  id int primary key,
  i2 smallint, i8 bigint, n numeric, n2 numeric(10,2), f4 real, f8 double precision, t text, vc varchar(40), ch char(6), ci citext,
  b bytea, d date, ts timestamp, tz timestamptz, ti time, iv interval, bo boolean, u uuid, ip inet, js json, jb jsonb,
  ta text[], na numeric[], en public.mood, co public.pair, ra int4range, tr tstzrange, dm public.rate, hs hstore
);
create table public."Odd ""Näme"".$1?" ("The Key; --" text, "Second 'Part'" int, "value,with?signs" text, primary key ("The Key; --", "Second 'Part'"));
create table public.parent (id int primary key, name text);
create table public.child (id int primary key, parent_id int references public.parent on delete cascade, amount numeric(8,2), doubled numeric(8,2));
create function public.keep_child() returns trigger language plpgsql as $$ begin new.doubled := new.amount * 2; return new; end $$;
create trigger keep_child before insert or update on public.child for each row execute function public.keep_child();
create function public.follow_child() returns trigger language plpgsql as $$ begin
  if pg_trigger_depth() < 2 then update public.parent set name = 'has ' || new.amount where id = new.parent_id; end if; return null; end $$;
create trigger follow_child after update on public.child for each row execute function public.follow_child();
create table public.secret (id int primary key, word text);
create table public.clash (id int primary key, address text, said text, app text, at_time text, written text, salt text, capturing text, o text, n text, spoor_place text)
`

let world: World
const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const entries = async () => {
  await world.collect()
  return await ledger(world)
}
let seen = 0
const fresh = async () => {
  const all = await entries()
  const since = all.slice(seen)
  seen = all.length
  return since
}

beforeAll(async () => {
  world = await makeWorld(schema)
  await track(world, { everything: '*', 'Odd "Näme".$1?': '*', parent: '*', child: '*' })
})
afterEach(fresh)
afterAll(() => world.close())

describe('a value written back', () => {
  const values: Record<string, (string | null)[]> = {
    i2: ['-32768', '0'],
    i8: ['9223372036854775807', '9007199254740993'],
    n: ['120.50', '1e-30', 'NaN', 'Infinity', '99999999999999999999.000000000000000000001'],
    n2: ['0.00', '-12345678.90'],
    f4: ['0.1', '-0', 'NaN'],
    f8: ['1e308', '0.30000000000000004', '-Infinity'],
    t: ['', ' leading', 'line\nbreak\ttab\r', 'a,"b"\\n', '=1+1', '<b>&amp;</b>', '💧 עברית', '\\N'],
    vc: ['', 'plain'],
    ch: ['ab', ''],
    ci: ['Mixed', 'MIXED'],
    b: ['\\x', '\\x00ff10'],
    d: ['infinity', '0044-03-15 BC', '2026-02-28'],
    ts: ['-infinity', '2026-10-25 01:30:00.000001'],
    tz: ['infinity', '2026-10-25 01:30:00.123456+05:30'],
    ti: ['24:00:00', '12:34:56.789012'],
    iv: ['1 day', '24:00:00', '-1 mons +3 days'],
    bo: ['true', 'false'],
    u: ['9b2ad6f8-64b1-4a38-8cf0-2f3c1a27e0ab'],
    ip: ['10.0.0.1', '10.0.0.0/8', '::1'],
    js: ['{"a": 1.10,  "a": 2}', 'null', '""'],
    jb: ['{"n": 1.10}', '{"n": 1.1}', 'null', '[]'],
    ta: ['{}', '{NULL,"NULL",""," x","a,b","\\"q\\""}', '[2:3]={a,b}', '{{a,b},{c,d}}'],
    na: ['{1.10,NaN}', '{1.1}'],
    en: ['calm', `it's; "odd"`],
    co: ['(1,"a,b")', '(,)'],
    ra: ['empty', '[1,5)', '(,)'],
    tr: ['["2026-01-01 00:00:00+00",infinity)'],
    dm: ['1.2500', '0.0000'],
    hs: ['"a"=>NULL, "b"=>""'],
  }

  it.each(Object.entries(values))('of column %s is the identical value', async (column, list) => {
    await sql(`insert into everything (id) values (1) on conflict (id) do update set ${column} = null`)
    await fresh()
    for (const value of [...list, null]) await sql(`update everything set ${column} = $1 where id = 1`, [value])
    const saves = await fresh()
    const trail = saves.map((save) => save.values[column]!)
    // Each after is the next before, and none of the given values was lost or merged with another.
    expect(trail.length).toBe(list.length + 1)
    trail.slice(1).forEach(([before], at) => expect(before).toBe(trail[at]![1]))
    expect(trail.at(-1)![1]).toBeNull()
    for (const [, after] of trail) {
      await sql(`update everything set ${column} = $1 where id = 1`, [after])
      const { rows } = await world.business.query<{ text: string | null }>(
        `select ${asWritten(column, column === 'bo')} as text from everything where id = 1`,
      )
      expect(rows[0]!.text).toBe(after)
    }
    await sql('delete from everything')
  })

  it('is the same whatever the session’s settings', async () => {
    const client = await world.business.connect()
    await client.query(
      `set datestyle = 'German'; set intervalstyle = 'iso_8601'; set timezone = 'Asia/Kolkata'; set bytea_output = 'escape'; set extra_float_digits = 0`,
    )
    await client.query(
      `insert into everything (id, d, tz, iv, b, f8) values (2, date '2026-03-20', timestamptz '2026-03-20 12:00:00+00', interval '1 day 2 hours', '\\x00ff', 0.30000000000000004)`,
    )
    await client.query('reset all')
    client.release()
    const [save] = await fresh()
    expect(save!.values).toMatchObject({
      d: [null, '2026-03-20'],
      tz: [null, '2026-03-20 12:00:00+00'],
      iv: [null, '1 day 02:00:00'],
      b: [null, '\\x00ff'],
      f8: [null, '0.30000000000000004'],
    })
    await sql('delete from everything')
  })
})

describe('what makes an entry', () => {
  it('is nothing when no tracked value changes', async () => {
    await sql(`insert into parent values (1, 'a')`)
    await fresh()
    await sql(`update parent set name = name`)
    await sql(`update parent set name = 'b' where id = 99`)
    expect(await fresh()).toEqual([])
  })

  it('tells creation, change and deletion', async () => {
    await sql(`insert into parent values (2, null)`)
    await sql(`update parent set name = '' where id = 2`)
    await sql(`delete from parent where id = 2`)
    expect((await fresh()).map(({ action, values }) => [action, values])).toEqual([
      ['create', { id: [null, '2'] }],
      ['change', { name: [null, ''] }],
      ['delete', { id: ['2', null], name: ['', null] }],
    ])
  })

  it('survives identifiers of every sort and a composite key', async () => {
    const table = `"Odd ""Näme"".$1?"`
    await sql(`insert into ${table} values ('k"1', 7, 'x')`)
    await sql(`update ${table} set "value,with?signs" = 'y'`)
    const saves = await fresh()
    expect(saves.map((save) => [save.key, save.values['value,with?signs']])).toEqual([
      ['["k\\"1","7"]', [null, 'x']],
      ['["k\\"1","7"]', ['x', 'y']],
    ])
  })

  it('survives columns named like anything in the generated functions', async () => {
    await track(world, { clash: '*' }, 'fingerprint')
    await track(world, { clash: '*' })
    await sql(`insert into clash values (1, 'a', 'b', 'c', 'd', 'e', 'f', 'g', 'h', 'i', 'j')`)
    await sql(`update clash set address = 'x', said = 'x', capturing = 'x', n = 'x'`)
    await sql(`update clash set id = 2, spoor_place = 'y'`)
    await sql(`delete from clash`)
    expect((await fresh()).map((save) => save.action)).toEqual(['create', 'change', 'change', 'delete'])
  })

  it('keeps a trail together when keys change, even when they change places', async () => {
    await sql(`insert into parent values (11, 'eleven'), (12, 'twelve')`)
    await fresh()
    await sql(`update parent set id = id + 1, name = name || '!' where id in (11, 12) and id = 12`)
    await sql(`update parent set id = 14 where id = 11`)
    expect((await fresh()).map(({ key, keyBefore, values }) => [keyBefore, key, values])).toEqual([
      ['["12"]', '["13"]', { id: ['12', '13'], name: ['twelve', 'twelve!'] }],
      ['["11"]', '["14"]', { id: ['11', '14'] }],
    ])
  })

  it('pairs rows by their place when one statement moves keys along', async () => {
    await sql(`delete from parent`)
    await sql(`insert into parent values (1, 'one'), (2, 'two'), (3, 'three')`)
    await fresh()
    const owner = await world.sources.connection(world.sourceId)
    await owner.raw(`alter table public.parent drop constraint parent_pkey cascade`)
    await owner.raw(
      `alter table public.parent add constraint parent_pkey primary key (id) deferrable initially deferred`,
    )
    await sql(`update parent set id = id + 1`)
    expect((await fresh()).map(({ key, keyBefore, values }) => [keyBefore, key, values]).sort()).toEqual([
      ['["1"]', '["2"]', { id: ['1', '2'] }],
      ['["2"]', '["3"]', { id: ['2', '3'] }],
      ['["3"]', '["4"]', { id: ['3', '4'] }],
    ])
    await owner.raw(`alter table public.parent drop constraint parent_pkey; alter table public.parent add primary key (id);
      alter table public.child add foreign key (parent_id) references public.parent on delete cascade`)
  })

  it('captures ON CONFLICT, MERGE, COPY-like bulk, cascades and TRUNCATE', async () => {
    await sql(`delete from parent`)
    await fresh()
    await sql(`insert into parent values (21, 'a') on conflict (id) do update set name = excluded.name`)
    await sql(`insert into parent values (21, 'b'), (22, 'c') on conflict (id) do update set name = excluded.name`)
    await sql(
      `merge into parent p using (values (22, 'd'), (23, 'e')) v(id, name) on p.id = v.id when matched then update set name = v.name when not matched then insert values (v.id, v.name)`,
    )
    expect((await fresh()).map(({ action, key }) => `${action} ${key}`).sort()).toEqual([
      'change ["21"]',
      'change ["22"]',
      'create ["21"]',
      'create ["22"]',
      'create ["23"]',
    ])
    await sql(`insert into child (id, parent_id, amount) values (1, 21, 10), (2, 21, 20)`)
    await fresh()
    await sql(`delete from parent where id = 21`)
    expect((await fresh()).map(({ action, key }) => `${action} ${key}`).sort()).toEqual([
      'delete ["1"]',
      'delete ["2"]',
      'delete ["21"]',
    ])
    const owner = await world.sources.connection(world.sourceId)
    await owner.raw('truncate public.parent cascade')
    expect((await fresh()).map(({ action, key }) => `${action} ${key}`).sort()).toEqual([
      'delete ["22"]',
      'delete ["23"]',
    ])
  })

  it('sees what the business’s own triggers write, as part of the save that caused it', async () => {
    await sql(`insert into parent values (31, 'p')`)
    await sql(`insert into child (id, parent_id, amount) values (31, 31, 5)`)
    await fresh()
    await sql(`update child set amount = 6 where id = 31`)
    const saves = await fresh()
    expect(saves.map((save) => save.values)).toEqual(
      expect.arrayContaining([{ amount: ['5.00', '6.00'], doubled: ['10.00', '12.00'] }, { name: ['p', 'has 6.00'] }]),
    )
  })

  it('is nothing for what was rolled back, to a savepoint too', async () => {
    await sql(`insert into parent values (41, 'kept')`)
    await fresh()
    await sql(`begin; update parent set name = 'lost' where id = 41; rollback`)
    await sql(
      `begin; savepoint s; update parent set name = 'lost' where id = 41; rollback to s; update parent set name = 'held' where id = 41; commit`,
    )
    expect((await fresh()).map((save) => save.values)).toEqual([{ name: ['kept', 'held'] }])
  })

  it('comes from a replica session too', async () => {
    await asSuperuser(world.superuserUrl, (client) =>
      client.query(`set session_replication_role = replica; insert into parent values (61, 'by replication')`),
    )
    expect((await fresh()).map((save) => save.values['name'])).toEqual([[null, 'by replication']])
  })

  it('a large update after a small one stays quick, because its plan is not the small one’s', async () => {
    // One session, since plans are a session's; measured by its own insert, so that a busy machine is no matter.
    const client = await world.business.connect()
    const lasts = async (statement: string) => {
      const start = performance.now()
      await client.query(statement)
      return performance.now() - start
    }
    try {
      const insert = await lasts(`insert into parent select g, 'x' from generate_series(1000, 21000) g`)
      for (let i = 0; i < 8; i++) await lasts(`update parent set name = 'small ${i}' where id = 1000`)
      await fresh()
      const update = await lasts(`update parent set name = 'big' where id >= 1000`)
      expect(update / insert).toBeLessThan(20)
    } finally {
      client.release()
    }
    expect((await fresh()).length).toBe(20_001)
  }, 120_000)
})

describe('who', () => {
  it('is the declared actor from a login that may declare', async () => {
    await withActorContext(
      world.business,
      { actor: 'Oona Marchetti', channel: 'screen', reason: 'per phone call' },
      `insert into parent values (51, 'x')`,
    )
    expect((await fresh())[0]).toMatchObject({
      actor: 'Oona Marchetti',
      kind: 'person',
      claimed: false,
      channel: 'screen',
      reason: 'per phone call',
    })
  })

  it('is unknown, with the login, when nobody said', async () => {
    await sql(`insert into parent values (52, 'x')`)
    expect((await fresh())[0]).toMatchObject({
      actor: 'login business_app',
      kind: 'unknown',
      channel: 'direct SQL',
      reason: null,
    })
  })

  it('is only claimed from any other login, and a correction it names is not believed', async () => {
    const { default: pg } = await import('pg')
    const stranger = new pg.Pool({ connectionString: world.businessAs('stranger') })
    await withActorContext(stranger, { actor: 'Oona Marchetti', correction: 1 }, `insert into parent values (53, 'x')`)
    await stranger.end()
    expect((await fresh())[0]).toMatchObject({ actor: 'Oona Marchetti', claimed: true })
  })

  it('does not leak from one transaction into the next', async () => {
    const client = await world.business.connect()
    await client.query(
      `begin; select set_config('spoor.context', '{"actor":"A"}', true); insert into parent values (54, 'x'); commit`,
    )
    await client.query(`insert into parent values (55, 'x')`)
    client.release()
    expect((await fresh()).map((save) => save.actor)).toEqual(['A', 'login business_app'])
  })

  it.each(['not json', '[]', '{"actor":7}', '{"actor":"a\\u0000b"}', '{"correction":"x"}'])(
    'a context of %s harms nothing',
    async (context) => {
      await sql(`delete from parent where id = 56`)
      await fresh()
      const client = await world.business.connect()
      await client.query('begin')
      await client.query(`select set_config('spoor.context', $1, true)`, [context])
      await client.query(`insert into parent values (56, 'x')`)
      await client.query('commit')
      client.release()
      expect((await fresh()).length).toBe(1)
    },
  )
})

describe('a fingerprint', () => {
  it('tells equality and change without the value', async () => {
    await track(world, { secret: ['word'] }, 'fingerprint')
    await sql(`insert into secret values (1, 'plum'), (2, null)`)
    const owner = await world.sources.connection(world.sourceId)
    const { rows } = await owner.raw<{ rows: { all: string }[] }>(
      `select string_agg(o::text, '') as all from spoor_capture.outbox o`,
    )
    expect(rows[0]!.all).not.toContain('plum')
    await sql(`update secret set word = 'pear' where id = 1`)
    await sql(`update secret set word = 'plum' where id = 1`)
    const saves = (await fresh()).filter((save) => save.key === '["1"]')
    const marks = saves.map((save) => save.values['word']![1])
    expect(marks[0]).toMatch(/^[0-9a-f]{64}$/)
    expect(marks[1]).not.toBe(marks[0])
    expect(marks[2]).toBe(marks[0])
  })
})

describe('uninstalling', () => {
  it('leaves no trigger or function of a type behind', async () => {
    await track(world, { secret: '*' }, 'off')
    const owner = await world.sources.connection(world.sourceId)
    const { rows } = await owner.raw<{ rows: { tgname: string }[] }>(
      `select tgname from pg_trigger where tgrelid = 'public.secret'::regclass and not tgisinternal`,
    )
    expect(rows).toEqual([])
  })
})
