import { setTimeout as sleep } from 'node:timers/promises'
import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { compareInstants, proveFound, stateAt, type Trail } from '@spoor/core'
import { compareFound } from '../src/found/compare.ts'
import { compareRecords } from '../src/custody/compare-records.ts'
import { sha256, sha256Hex } from '../src/ledger/sha256.ts'
import { proofsOfFound } from '../src/found/prove.ts'
import { findingsOf, findingsOfType } from '../src/ledger/findings.ts'
import { takeFoundAgain, Taking } from '../src/tracking/taking.ts'
import { readStanding } from '../src/standing/kept.ts'
import { StandingRecords } from '../src/standing/standing.ts'
import { storyOf } from '../src/records/story.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { Work } from '../src/work/work.ts'
import { urlFor } from './names.ts'
import { asWritten, ledger, makeWorld, silentLog, track, workOnce, type World } from './support.ts'

let world: World

const records = 6000
const columns = ['id', 'part', 'name', 'amount', 'seen', 'tags', 'on', 'secret'] as const
type Held = Record<string, string | null>

/** What the table holds, read by the test's own hand: by its key as the ledger writes it. */
async function table(): Promise<Map<string, Held>> {
  const { rows } = await world.business.query<Held>(
    `select ${columns.map((column) => `${asWritten(`x."${column}"`, column === 'on')} as "${column}"`).join(', ')} from odd."A b" x`,
  )
  return new Map(rows.map((row) => [JSON.stringify([row['part'], row['id']]), row]))
}

let before: Map<string, Held>
let fieldOf: ReadonlyMap<string, number>
let typeId: number

const taking = () => new Taking(world.db, world.sources, world.vault.derive('fingerprint'))

/** On a slow machine what is written grows with the time that the taking takes, and so does what is looked at afterwards. */
const mostWritten = 500

/** Writes as hard as it can until it is told to stop: values, keys, creations, deletions, in transactions that overlap. */
async function writeHard(seed: number, stop: { asked: boolean }): Promise<void> {
  let state = seed
  const random = (below: number) => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0
    return Math.floor((state / 2 ** 32) * below)
  }
  const client = await world.business.connect()
  for (let n = 0; n < mostWritten && !stop.asked; n++) {
    await client.query('begin')
    for (let times = random(4) + 1; times > 0; times--) {
      const id = random(records) + 1
      const deed = random(10)
      if (deed < 6)
        await client.query('update odd."A b" set amount = amount + 1, name = name || $2 where id = $1', [
          id,
          String(n % 10),
        ])
      else if (deed < 7) await client.query('update odd."A b" set id = -id where id = $1', [id])
      else if (deed < 8) await client.query('delete from odd."A b" where id = $1', [id])
      else if (deed < 9)
        await client.query(
          `insert into odd."A b" (id, part, name, amount) values ($1, 'n', 'new', 1) on conflict do nothing`,
          [records + seed * 100_000 + n],
        )
      else await client.query('update odd."A b" set untracked = $2 where id = $1', [id, n])
    }
    // Some stay open across a reading.
    if (random(5) === 0) await sleep(15)
    await client.query(random(6) === 0 ? 'rollback' : 'commit')
  }
  client.release()
}

beforeAll(async () => {
  world = await makeWorld(`
    create schema odd;
    grant usage on schema odd to business_app;
    create table odd."A b" (
      id bigint, part text collate "C", name text, amount numeric(12,2), seen timestamptz, tags text[], "on" bool,
      secret text, untracked int, primary key (part, id));
    insert into odd."A b" select n, case when n % 3 = 0 then 'a"b' else E'x\\\\y' end, 'name ' || n, n * 1.5,
      timestamptz '2026-01-01' + n * interval '1 second', case when n % 4 = 0 then array['a', 'ü, "q"', null] end, n % 2 = 0, 'secret ' || n
      from generate_series(1, ${records}) n;
    create table odd.later (no int primary key, called text);
    insert into odd.later select n, 'name ' || n from generate_series(1, 4) n;
    grant all on all tables in schema odd to business_app`)
  before = await table()
})
afterAll(async () => {
  await world.close()
})

async function trailOf(key: string): Promise<Trail> {
  const story = await storyOf(world.db, typeId, key, {}, Date.now())
  return {
    saves: story.saves.map((save) => ({
      ...save,
      changes: save.changes.map((change) => ({ ...change, hidden: null })),
    })),
    coverage: story.coverage,
    found: story.found,
  }
}

describe('what is there when tracking begins', () => {
  it('is known of every record from then on, whatever was written while it was taken in', async () => {
    const stop = { asked: false }
    const writers = [1, 2, 3, 4].map((seed) => writeHard(seed, stop))
    await track(world, { 'A b': columns })
    const fields = await world
      .db('spoor.field')
      .whereIn('column_name', [...columns])
      .select<{ id: number; column_name: string; type_id: number }[]>('id', 'column_name', 'type_id')
    fieldOf = new Map(fields.map((field) => [field.column_name, field.id]))
    typeId = fields[0]!.type_id
    // Collected and followed while it is taken in, as a server does.
    const following = new StandingRecords(world.db, silentLog)
    const collector = world.newCollector()
    collector.start()
    following.start()
    await workOnce(world, taking())
    stop.asked = true
    await Promise.all(writers)
    await Promise.all([collector.stop(), following.stop()])
    await world.collect()
    while ((await following.readOn()) > 0);
    const [row] = await world.db('spoor.taking')
    expect(row).toMatchObject({ state: 'whole', last_key: expect.any(String) as string })
    const now = await table()
    const ids = [...fieldOf.values()]
    const wrong: unknown[] = []
    const kept = await readStanding(world.db, typeId, 'deleted is null', [])
    expect(new Set(kept.keys())).toEqual(new Set(now.keys()))
    for (const [key, held] of now)
      for (const [column, fieldId] of fieldOf) {
        const stood = kept.get(key)!.fields.get(fieldId)
        if ((stood?.value ?? null) !== held[column]) wrong.push([key, column, held[column], stood])
      }
    expect(wrong.slice(0, 5)).toEqual([])
    const looked = 12
    let untouched = 0
    for (const [key, held] of [...now].filter((_, at) => at % looked === 0)) {
      const trail = await trailOf(key).catch(() => null)
      if (!trail) {
        wrong.push([key, 'no trail'])
        continue
      }
      if (trail.saves.length === 0) untouched++
      const state = stateAt(trail, ids, '9999-01-01T00:00:00Z')
      for (const [column, fieldId] of fieldOf) {
        const known = state.get(fieldId)!
        if (known.state !== 'value' || known.value !== held[column]) wrong.push([key, column, held[column], known])
      }
    }
    expect(wrong.slice(0, 5)).toEqual([])
    expect(untouched).toBeGreaterThan(records / 20 / looked)
    expect(untouched).toBeLessThan(now.size / looked)
    expect(await compareFound(world.db)).toEqual([])
    expect(await compareRecords(world.db)).toEqual([])
    // Of the whole type at once it is told as it is of each record.
    const whole = new Map((await findingsOfType(world.db, typeId, ids[0]!)).map((one) => [one.record_key, one]))
    const each = (
      await Promise.all([...whole.keys()].map((key) => findingsOf(world.db, typeId, [{ key, from: '0', to: null }])))
    ).flat()
    expect(each).toHaveLength(whole.size)
    expect(whole.size).toBeGreaterThan(records / 2)
    expect(each.filter((one) => one.instant !== whole.get(one.record_key)?.instant)).toEqual([])
  })

  it('is what it was from the first moment of tracking, for those that nobody had touched before', async () => {
    const spells = await world.db('spoor.coverage').whereIn('field_id', [...fieldOf.values()])
    const from = (spells[0] as { from_at: string }).from_at
    const ids = [...fieldOf.values()]
    // Whatever was saved before tracking began went unseen; of the rest the test knows what it was.
    let compared = 0
    for (const [key, held] of [...before].slice(0, 400)) {
      const trail = await trailOf(key).catch(() => null)
      const first = trail?.saves[0]
      const untold =
        trail && (!first || first.changes.every((change) => change.before === held[nameOf(change.fieldId)]))
      if (!untold || first?.action === 'create') continue
      // Capture stands a moment before tracking is said to have begun; what was deleted in it was gone by then.
      if (first && compareInstants(first.at, from) <= 0) continue
      const state = stateAt(trail, ids, from)
      for (const fieldId of ids) {
        const known = state.get(fieldId)!
        if (nameOf(fieldId) === 'amount' || nameOf(fieldId) === 'name') continue
        expect([key, nameOf(fieldId), known]).toEqual([
          key,
          nameOf(fieldId),
          { state: 'value', value: held[nameOf(fieldId)] },
        ])
      }
      compared++
    }
    expect(compared).toBeGreaterThan(250)
  }, 120_000)
})

const nameOf = (fieldId: number) => [...fieldOf].find(([, id]) => id === fieldId)![0]

describe('taking in', () => {
  const again = async (keep: 'values' | 'fingerprint', rule?: 'leave') => {
    const secret = fieldOf.get('secret')!
    const draft = await readDraft(world.db, world.sourceId)
    await stageDraft(
      world.db,
      world.sourceId,
      draft.revision,
      [{ typeId, fieldId: secret, keep }, ...(rule ? [{ typeId, asFound: rule }] : [])],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'kept otherwise', world.admin)
  }
  const latest = async () => (await world.db('spoor.taking').orderBy('id', 'desc').first()) as Record<string, unknown>

  it('goes on behind the last key where a server stopped, and keeps a fingerprint of what is kept as one', async () => {
    await again('fingerprint')
    const first = new Work({ db: world.db, databaseUrl: world.spoorUrl, log: silentLog, handlers: [taking()] })
    await first.start()
    await expect.poll(async () => Number((await latest())['records']), { interval: 5 }).toBeGreaterThan(0)
    await first.stop()
    const half = await latest()
    expect(half['state']).toBe('going')
    await workOnce(world, taking())
    const whole = await latest()
    const now = await table()
    expect(whole).toMatchObject({ id: half['id'], state: 'whole', records: String(now.size) })
    const { rows } = await world.db.raw<{ rows: { n: string; places: string; keys: string; plain: string }[] }>(
      `select count(*) n, count(distinct place) places, count(distinct record_key) keys,
              count(*) filter (where vals !~ '^\\["[0-9a-f]{64}"\\]$' and vals <> '[null]') plain
         from ledger.found where taking_id = ?`,
      [half['id'] as number],
    )
    expect(rows[0]).toEqual({ n: String(now.size), places: String(now.size), keys: String(now.size), plain: '0' })
    expect(await compareFound(world.db)).toEqual([])
  }, 60_000)

  it('finds a record that got another key in a transaction that was under way when it began', async () => {
    await again('values')
    // As if those of negative numbers had been read already, before this one came to be of them.
    const moved = [...(await table()).values()].find((row) => row['part'] === 'x\\y' && Number(row['id']) > 0)!
    await world.business.query('update odd."A b" set id = -id where id = $1', [moved['id']])
    await world.collect()
    const { id } = await latest()
    await world
      .db('spoor.taking')
      .where({ id: id as number })
      .update({ last_key: JSON.stringify(['x\\y', '0']), began_at: world.db.raw('clock_timestamp()') })
    await workOnce(world, taking())
    const found = await world
      .db('ledger.found')
      .where({ taking_id: id as number, record_key: JSON.stringify(['x\\y', `-${moved['id']}`]) })
    expect(found).toHaveLength(1)
    await again('fingerprint')
    await workOnce(world, taking())
    expect(await compareFound(world.db)).toEqual([])
  }, 60_000)

  it('is told apart from what a transaction wrote that stayed open while no other ended', async () => {
    await track(world, { later: ['no', 'called'] })
    const { job_id: id, type_id: ofLater } = (await latest()) as { job_id: number; type_id: number }
    const client = await world.business.connect()
    let begun = false
    // It writes before the reading, and of the transactions that ended before that none began later.
    const progress = async () => {
      if (begun) return
      begun = true
      await client.query('begin')
      await client.query(`update odd.later set no = -no where no = 1`)
      await client.query(`update odd.later set called = 'another' where no = 2`)
      await client.query(`delete from odd.later where no = 3`)
      await sleep(1500)
    }
    await taking().perform({ id, input: {}, askedBy: null, progress })
    await client.query('commit')
    client.release()
    await world.collect()
    const following = new StandingRecords(world.db, silentLog)
    while ((await following.readOn()) > 0);
    const standing = await readStanding(world.db, ofLater, 'deleted is null', [])
    const values = [...standing].map(([key, { fields }]) => [key, ...[...fields.values()].map(({ value }) => value)])
    expect(values.sort()).toEqual([
      ['["-1"]', '-1', 'name 1'],
      ['["2"]', '2', 'another'],
      ['["4"]', '4', 'name 4'],
    ])
  }, 60_000)

  it('is declined where the plan says so, and what was taken until somebody stops it is sealed', async () => {
    const takings = async () => Number((await world.db('spoor.taking').count<{ count: string }[]>())[0]!.count)
    const had = await takings()
    await again('values', 'leave')
    expect(await takings()).toBe(had)
    const draft = await readDraft(world.db, world.sourceId)
    await stageDraft(world.db, world.sourceId, draft.revision, [{ typeId, asFound: 'take' }], world.adminId)
    await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'taken again', world.admin)
    await again('fingerprint')
    await world.db('spoor.job').where({ ended_at: null }).update({ stop_asked: true })
    await workOnce(world, taking())
    expect(await latest()).toMatchObject({ state: 'stopped', root: expect.stringMatching(/^[0-9a-f]{64}$/) as string })
    const event = await world
      .db('ledger.event')
      .whereLike('words', 'took in as found%')
      .orderBy('id', 'desc')
      .first('words')
    expect((event as { words: string }).words).toContain('which is not all of them')
    expect(await compareFound(world.db)).toEqual([])
  }, 240_000)

  it('is done again after a gap, so that what is there is known again, and when somebody asks', async () => {
    const owner = new pg.Client({ connectionString: world.superuserUrl })
    await owner.connect()
    const trigger = `spoor_t${typeId}_update`
    await owner.query(`alter table odd."A b" disable trigger ${trigger}`)
    await world.watch()
    await owner.query(`update odd."A b" set seen = seen + interval '1 day' where id between 1 and 50`)
    await owner.query(`alter table odd."A b" enable always trigger ${trigger}`)
    await owner.end()
    // Whoever had a hand on the triggers may have left something: a plan in force mends it, and tracking begins again.
    await again('values')
    await world.watch()
    const had = Number((await latest())['id'])
    await world.watch()
    expect(Number((await latest())['id'])).toBe(had)
    await workOnce(world, taking())
    expect(await latest()).toMatchObject({ state: 'whole' })
    const seen = fieldOf.get('seen')!
    const now = await table()
    const some = [...now].filter(([, held]) => Number(held['id']) > 0 && Number(held['id']) <= 50)
    expect(some.length).toBeGreaterThan(10)
    for (const [key, held] of some) {
      const state = stateAt(await trailOf(key), [seen], '9999-01-01T00:00:00Z')
      expect([key, state.get(seen)]).toEqual([key, { state: 'value', value: held['seen'] }])
    }
    await takeFoundAgain(world.db, typeId, world.adminId)
    await workOnce(world, taking())
    expect(Number((await latest())['id'])).toBeGreaterThan(had)
    await expect(takeFoundAgain(world.db, 99_999, world.adminId)).rejects.toMatchObject({ code: 'not-found' })
    expect(await compareFound(world.db)).toEqual([])
  }, 60_000)

  it('is proved for one record alone', async () => {
    const { rows } = await world.db.raw<{ rows: { record_key: string }[] }>(
      'select record_key from ledger.found where taking_id in (1, (select max(taking_id) from ledger.found)) order by random() limit 5',
    )
    for (const { record_key: key } of rows) {
      const handed = await proofsOfFound(world.db, typeId, key)
      expect(handed.length).toBeGreaterThan(0)
      for (const one of handed)
        expect(proveFound({ sha256, sha256Hex, signed: () => false }, one).map(({ outcome }) => outcome)).toEqual([
          'passed',
          'passed',
        ])
    }
  })

  it('is found out when anything of it is altered, taken out, put in or exchanged', async () => {
    // A small world of its own: it is looked through once for each alteration.
    const own = await makeWorld(
      `create table public.small (id int primary key, name text); insert into public.small select n, 'name ' || n from generate_series(1, 40) n`,
    )
    const hand = new pg.Client({ connectionString: urlFor(own.superuserUrl, own.names.spoor) })
    try {
      await hand.connect()
      await track(own, { small: '*' })
      await workOnce(own, new Taking(own.db, own.sources, own.vault.derive('fingerprint')))
      const whole = `taking_id = 1 and place = 7`
      const cases: [string, string, RegExp][] = [
        ['a value', `update ledger.found set vals = replace(vals, '"', '"x') where ${whole}`, /is not as it was found/],
        ['a label', `update ledger.found set label = 'other' where ${whole}`, /is not as it was found/],
        ['a key', `update ledger.found set record_key = '["q","1"]' where ${whole}`, /is not as it was found/],
        ['a time', `update ledger.found set at = at - interval '1 second' where ${whole}`, /is not as it was found/],
        ['a snapshot', `update ledger.found set snapshot = '1:1:' where ${whole}`, /is not as it was found/],
        ['a parent', `update ledger.found set parent_key = '["1"]' where ${whole}`, /is not as it was found/],
        ['a salt', `update ledger.found set salt = sha256(salt) where ${whole}`, /is not as it was found/],
        ['a leaf', `update ledger.found set leaf = sha256(leaf) where ${whole}`, /is not as it was found/],
        ['a record less', `delete from ledger.found where ${whole}`, /taken out, put in, or written anew/],
        [
          'the last less',
          `delete from ledger.found where taking_id = 1 and place = (select max(place) from ledger.found where taking_id = 1)`,
          /taken out, put in/,
        ],
        [
          'a record more',
          `insert into ledger.found select taking_id, place + 1, type_id, record_key, label, parent_key, at, snapshot, vals, salt, kept, leaf from ledger.found where taking_id = 1 order by place desc limit 1`,
          /is not as it was found/,
        ],
        ['all of it gone', `delete from ledger.found where taking_id = 1`, /taken out, put in/],
      ]
      for (const [what, statement, words] of cases) {
        await hand.query('create table public.found_kept as select * from ledger.found')
        await hand.query(statement)
        const found = (await compareFound(own.db)).map((one) => one.words)
        expect([what, found.join()]).toEqual([what, expect.stringMatching(words)])
        await hand.query(
          'truncate ledger.found; insert into ledger.found select * from public.found_kept; drop table public.found_kept',
        )
      }
      expect(await compareFound(own.db)).toEqual([])
    } finally {
      await hand.end()
      await own.close()
    }
  }, 120_000)
})

describe('a change that is under way while records are read', () => {
  it('comes after what was found, also where it was captured before tracking is said to have begun', async () => {
    const own = await makeWorld(
      `create table public.small (id int primary key, name text, note text); insert into public.small values (1, 'before', 'n'), (2, 'other', 'o')`,
    )
    try {
      await track(own, { small: '*' })
      const open = await own.business.connect()
      await open.query(`begin; update small set name = 'after' where id = 1`)
      await workOnce(own, new Taking(own.db, own.sources, own.vault.derive('fingerprint')))
      await open.query('commit')
      open.release()
      await own.collect()
      const [save] = await own.db('ledger.save').select('captured_at', 'type_id')
      const fields = await own.db('spoor.field').orderBy('attribute_number').pluck<number[]>('id')
      const storyAt = async (at: string) => {
        const story = await storyOf(own.db, save.type_id, '["1"]', {}, Date.now())
        const saves = story.saves.map((one) => ({
          ...one,
          changes: one.changes.map((change) => ({ ...change, hidden: null })),
        }))
        const state = stateAt({ saves, coverage: story.coverage, found: story.found }, fields, at)
        return fields.map((field) => {
          const known = state.get(field)!
          return known.state === 'value' ? known.value : known
        })
      }
      const [found] = await own.db('ledger.found').where({ record_key: '["1"]' }).select('at', 'vals')
      expect(found.at > save.captured_at).toBe(true)
      expect(JSON.parse(found.vals)).toEqual(['1', 'before', 'n'])
      expect(await storyAt('9999-01-01T00:00:00Z')).toEqual(['1', 'after', 'n'])
      expect(await storyAt(save.captured_at)).toEqual(['1', 'after', 'n'])
      const spell = await own.db('spoor.coverage').first('from_at')
      expect(await storyAt(spell.from_at)).toEqual(['1', 'before', 'n'])
      // Between the commit that put the triggers in force and the look at the clock after it, somebody saved.
      await own.db.raw(`update spoor.coverage set from_at = ?::timestamptz + interval '3 milliseconds'`, [
        save.captured_at,
      ])
      const later = await own.db('spoor.coverage').first('from_at')
      await own.db('spoor.plan_version').update({ put_at: later.from_at })
      expect(await storyAt(later.from_at)).toEqual(['1', 'after', 'n'])
      expect(await storyAt('9999-01-01T00:00:00Z')).toEqual(['1', 'after', 'n'])
    } finally {
      await own.close()
    }
  }, 60_000)
})

it('of a record that was made, found and deleted before it was collected is told in that order', async () => {
  const own = await makeWorld('create table public.thing (id text primary key deferrable, name text)')
  try {
    await track(own, { thing: '*' })
    await own.business.query(`insert into thing values ('kept', 'there before')`)
    await own.collect()
    await own.business.query(`insert into thing values ('brief', 'not for long')`)
    await workOnce(own, new Taking(own.db, own.sources, own.vault.derive('fingerprint')))
    await own.business.query('delete from thing')
    await own.business.query(`insert into thing values ('brief', 'again')`)
    await own.collect()
    const told = (await ledger(own)).filter(({ key }) => key === '["brief"]')
    expect(told.map(({ action }) => action)).toEqual(['create', 'delete', 'create'])
    expect(await own.db('spoor.record').where({ record_key: '["brief"]' }).pluck('deleted')).toEqual([false])
  } finally {
    await own.close()
  }
})
