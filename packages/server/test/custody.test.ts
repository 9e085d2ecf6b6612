import { cpSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Readable } from 'node:stream'
import { setTimeout as sleep } from 'node:timers/promises'
import pg from 'pg'
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import { fromHex, keyLine, provesInclusion, readCheckpoint, readKeyLine, readNote, signatureBy } from '@spoor/core'
import { Checking, askForCheck } from '../src/custody/checking.ts'
import { SlicesHere } from '../src/custody/slices.ts'
import { placeOf, readCustody } from '../src/custody/custody.ts'
import { verify } from '@spoor/verify'
import { provedLines } from '../src/custody/proved.ts'
import { handOver } from '../src/custody/hand-over.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { latestSeal, originOf, Sealer } from '../src/custody/sealer.ts'
import { sha256 } from '../src/ledger/sha256.ts'
import { signatureHolds, SigningKey } from '../src/custody/signing-key.ts'
import { connect } from '../src/database/knex.ts'
import { evidenceKey } from '../src/evidence/evidence.ts'
import { recordEvent } from '../src/ledger/events.ts'
import { askErasure } from '../src/erasure/erasure.ts'
import { carryOut } from '../src/erasure/carry-out.ts'
import { withActorContext } from './context.ts'
import { urlFor } from './names.ts'
import { ledger, makeWorld, silentLog, track, workOnce, type World } from './support.ts'

/** A ledger that proves itself, and a superuser who alters it. */
let world: World
let directory: string
let superuser: pg.Client
let outside: OutsideSeals
let sealer: Sealer

beforeAll(async () => {
  world = await makeWorld('create table public.item (id int primary key, name text, amount numeric, tags text[])')
  await track(world, { item: '*' })
  directory = mkdtempSync(join(tmpdir(), 'spoor-custody-'))
  outside = new OutsideSeals(directory)
  sealer = new Sealer({ db: world.db, key: SigningKey.open(directory), outside, log: silentLog })
  superuser = new pg.Client({ connectionString: urlFor(world.superuserUrl, world.names.spoor) })
  await superuser.connect()
  // With everything that a save can say: who for, why, which run; another key; rows that nobody understands.
  await withActorContext(
    world.business,
    { actor: 'Ann', onBehalfOf: 'Bea', reason: 'asked for', run: 'spring', channel: 'screen' },
    `insert into item select 1000 + n, 'said ' || n, n, '{}' from generate_series(1, 30) n`,
  )
  await world.business.query(`update item set id = id + 1000 where id > 1020`)
  const source = await world.sources.connection(world.sourceId)
  await source.raw(
    `insert into spoor_capture.outbox (captured_at, type_id, plan_version, action, key, label, delta, login) select now(), 1, 1, 'explode', '["1"]', '', '{}', 'x' from generate_series(1, 12)`,
  )
  await world.business.query(
    `insert into item select n, 'item ' || n, n * 1.5, array['a', 'b'] from generate_series(1, 400) n`,
  )
  await world.collect()
  await sealer.seal()
  for (let round = 0; round < 3; round++) {
    await world.business.query(`update item set amount = amount + 1, name = name || '!' where id % 3 = $1`, [round])
    await world.collect()
    await recordEvent(world.db, { kind: 'export', personId: null, words: `round ${round}` })
    // Many in one transaction, so that their numbers come to have another digit between two seals.
    await world.db.transaction(async (trx) => {
      for (let n = 0; n < 40; n++)
        await recordEvent(trx, { kind: 'export', personId: null, words: `export ${round}.${n}` })
    })
    await sealer.seal()
  }
  await eraseSome()
  await recordEvent(world.db, { kind: 'export', personId: null, words: 'after erasing' })
  // The one about the rows that were set aside.
  await world.db('spoor.alarm').delete()
  await sealEverything()
})
afterAll(async () => {
  await superuser.end()
  await world.close()
  rmSync(directory, { recursive: true, force: true })
})
beforeEach(async () => {
  await world.db('spoor.alarm').delete()
})

/** Seals until every event is covered: they wait while an older transaction runs in the cluster, which other suites use as well. */
async function sealEverything(): Promise<void> {
  const { rows } = await world.db.raw<{ rows: { transaction: string; id: string }[] }>(
    'select e.transaction::text, e.id::text from ledger.event e order by e.transaction desc, e.id desc limit 1',
  )
  for (;;) {
    await sealer.seal()
    const { rows: covered } = await world.db.raw<{ rows: unknown[] }>(
      'select from ledger.seal where (events_transaction::xid8, events_id) >= (?::xid8, ?::bigint) limit 1',
      [rows[0]!.transaction, rows[0]!.id],
    )
    if (covered.length > 0) return
    await sleep(50)
  }
}

/** Takes some values out, as two people may. */
async function eraseSome(): Promise<void> {
  await world.people.add({ login: 'pat', name: 'Pat', role: 'approver', password: 'password of pat' })
  const pat = (await world.people.authenticate('pat', 'password of pat'))!
  const name = (await world.db('spoor.field').where({ column_name: 'name' }).first('id')).id
  const chosen = await world.db('ledger.change').where({ field_id: name }).orderBy('save_id').limit(20).pluck('save_id')
  for (const saveId of chosen) {
    const id = await askErasure(world.db, world.admin, { saveId, fieldId: name, reach: 'change', reason: 'the law' })
    await carryOut(world.connectEraser, pat, id)
  }
}

/** A whole check at once. @returns what it found */
async function check(): Promise<
  {
    words: string
    save_id: string | null
    field_id: number | null
    place: string
    after_seal: string | null
    before_seal: string | null
  }[]
> {
  await askForCheck(world.db, world.adminId)
  await workOnce(world, checking())
  expect(await world.db('spoor.job').orderBy('id', 'desc').first('outcome')).toEqual({ outcome: 'done' })
  return await world
    .db('spoor.alarm')
    .orderBy('id')
    .select('words', 'save_id', 'field_id', 'place', 'after_seal', 'before_seal')
}
function checking(): Checking {
  return new Checking({
    db: world.db,
    outside,
    evidenceKey: evidenceKey(world.vault),
    openSlices: () => new SlicesHere(world.spoorUrl),
  })
}

async function altered(statement: string, values?: unknown[]) {
  await superuser.query(statement, values)
  return await check()
}

interface Found {
  words: string
  save_id: string | null
  place: string
}
interface Target {
  table: string
  column: string
  row: string
  place: string
  located(found: Found): boolean
  undo?: { statement: string; values: unknown[] }
}

/** The same figures for the same seed. */
function seeded(seed: number): () => number {
  let state = seed
  return () => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0
    return state / 2 ** 32
  }
}

const saveColumns = [
  'reason',
  'run',
  'on_behalf_of',
  'key_before',
  'client_address',
  'record_key',
  'label',
  'actor_kind',
  'actor_name',
  'channel',
  'db_login',
  'application_name',
  'transaction_id',
  'captured_at',
  'collected_at',
  'actor_id',
  'type_id',
  'source_id',
  'plan_version',
  'outbox_seq',
  'run_id',
  'leaf',
]
const changeColumns = [
  'before',
  'after',
  'record_key',
  'actor_kind',
  'actor_id',
  'type_id',
  'rise',
  'rise_share',
  'salt',
  'digest',
]

/** Every value of the ledger that could be altered, with what has to be told of it. */
async function alterable(): Promise<Target[]> {
  const targets: Target[] = []
  const all = async (
    table: string,
    columns: readonly string[],
    key: string,
    located: (row: Record<string, string>) => Target['located'],
    where = 'true',
  ) => {
    const { rows } = await superuser.query<Record<string, string>>(
      `select ctid::text as row, ${key}, ${columns.map((column) => `${column} is not null as has_${column}`).join(', ')} from ${table} where ${where}`,
    )
    for (const row of rows)
      for (const column of columns)
        if (row[`has_${column}`])
          targets.push({
            table,
            column,
            row: row['key']!,
            place: `${table} ${row['key']} ${column}`,
            located: located(row),
          })
  }
  const ofSave = (row: Record<string, string>) => (found: Found) => found.save_id === row['save']
  await all('ledger.save', saveColumns, 'id::text as key, id::text as save', ofSave)
  await all('ledger.change', changeColumns, `save_id || ' ' || field_id as key, save_id::text as save`, ofSave)
  const has = (words: RegExp) => () => (found: Found) => words.test(found.words)
  await all(
    'ledger.erased',
    ['before', 'after', 'erasure_id'],
    `save_id || ' ' || field_id as key`,
    has(/^Erasure \d+ is not what was written down/),
  )
  await all(
    'ledger.set_aside',
    ['why', 'content', 'outbox_seq', 'source_id'],
    'outbox_seq::text as key',
    has(/^Captured row \d+, which was set aside/),
  )
  await all(
    'ledger.event',
    ['words', 'at'],
    'id::text as key',
    has(/Of the events between/),
    'id <= (select max(events_id) from ledger.seal)',
  )
  await all('ledger.node', ['hash'], `height || ' ' || place as key`, has(/node|no longer what was sealed/))
  await all(
    'ledger.seal',
    ['root', 'note', 'events_end'],
    'number::text as key',
    (row) => (found) => found.words.startsWith(`Seal ${row['key']} `) || found.words.includes(`seal ${row['key']},`),
  )
  await all('ledger.hour_field', ['changes'], `hour || ' ' || field_id as key`, has(/count of changes of a field/))
  await all(
    'ledger.hour_actor',
    ['saves', 'changes'],
    `hour || ' ' || type_id || ' ' || actor_id || ' ' || channel as key`,
    has(/count of an actor/),
  )
  await all(
    'ledger.month_actor',
    ['saves', 'changes'],
    `month || ' ' || type_id || ' ' || actor_id || ' ' || channel as key`,
    has(/count of an actor in the month/),
  )
  await all(
    'ledger.hour_kind',
    ['saves', 'changes'],
    `hour || ' ' || actor_kind as key`,
    has(/count of a kind of actor/),
  )
  await all(
    'ledger.run',
    ['saves'],
    'id::text as key',
    (row) => (found) => found.words.startsWith(`Run ${row['key']} `),
  )
  return targets
}

const keys: Record<string, string> = {
  'ledger.save': 'id::text',
  'ledger.change': `save_id || ' ' || field_id`,
  'ledger.erased': `save_id || ' ' || field_id`,
  'ledger.set_aside': 'outbox_seq::text',
  'ledger.event': 'id::text',
  'ledger.node': `height || ' ' || place`,
  'ledger.seal': 'number::text',
  'ledger.hour_field': `hour || ' ' || field_id`,
  'ledger.hour_actor': `hour || ' ' || type_id || ' ' || actor_id || ' ' || channel`,
  'ledger.month_actor': `month || ' ' || type_id || ' ' || actor_id || ' ' || channel`,
  'ledger.hour_kind': `hour || ' ' || actor_kind`,
  'ledger.run': 'id::text',
}

/** Alters one byte, digit or microsecond of one value. @returns how it is put back */
async function flip(
  { table, column, row }: Target,
  random: () => number,
): Promise<{ statement: string; values: unknown[] }> {
  const where = `where ${keys[table]!} = $1`
  const { rows } = await superuser.query<{ value: string; type: string }>(
    `select ${column}::text as value, pg_typeof(${column})::text as type from ${table} ${where}`,
    [row],
  )
  const { value, type } = rows[0]!
  const other = alteredText(value, type, random)
  const statement = `update ${table} set ${column} = $2::text::${type} ${where}`
  const altered = await superuser.query<{ key: string }>(`${statement} returning ${keys[table]!} as key`, [row, other])
  // By the key that the row has now: what was altered may be part of it.
  return { statement, values: [altered.rows[0]!.key, value] }
}

function alteredText(value: string, type: string, random: () => number): string {
  if (type === 'timestamp with time zone')
    return new Date(Date.parse(value) + 1 + Math.floor(random() * 1000)).toISOString()
  if (type === 'double precision') return String(Number(value) + 1)
  // Further than there are rows, so that no row comes to have the number of another.
  if (/int|numeric/.test(type))
    return String(BigInt(Math.trunc(Number(value))) + 20_000n + BigInt(Math.floor(random() * 9)))
  const from = type === 'bytea' ? 2 : 0
  const at = from + Math.floor(random() * Math.max(1, value.length - from))
  const digits = type === 'bytea' ? '0123456789abcdef' : 'abcdefghijklmnopqrstuvwxyz0123456789'
  const others = [...digits].filter((digit) => digit !== value[at])
  return value.slice(0, at) + others[Math.floor(random() * others.length)]! + value.slice(at + 1)
}

describe('sealing', () => {
  it('signs how far the ledger goes, each seal grown from the one before, and keeps it outside too', async () => {
    const seals = await world.db('ledger.seal').orderBy('number').select('*')
    expect(seals.length).toBeGreaterThanOrEqual(5)
    expect(seals.map((seal) => Number(seal.number))).toEqual(seals.map((_, at) => at + 1))
    const head = await world.db('ledger.head').first('last_save_id')
    expect(seals.at(-1).size).toBe(head.last_save_id)
    const [line] = await world.db('ledger.signing_key').pluck<string[]>('line')
    const key = readKeyLine(sha256, line!)!
    for (const seal of seals) {
      const note = readNote(seal.note)!
      expect(signatureHolds(key, note.text, signatureBy(sha256, note, key)!)).toBe(true)
      expect(readCheckpoint(note.text)).toMatchObject({ size: Number(seal.size), events: Number(seal.events) })
    }
    expect(outside.latest()).toEqual({ number: seals.length, size: Number(seals.at(-1).size), note: seals.at(-1).note })
    expect(await sealer.seal()).toBe(false)
  })

  it('proves each save to whoever has the key and the seal', async () => {
    const saves = await ledger(world)
    for (const save of [saves[0]!, saves[255]!, saves[256]!, saves.at(-1)!]) {
      const place = await placeOf(world.db, save.id)
      const note = readNote(place.seal!.note)!
      const { root, size } = readCheckpoint(note.text)!
      const claim = {
        leaf: fromHex(place.leaf)!,
        index: place.index!,
        size,
        root,
        proof: place.proof.map((hash) => fromHex(hash)!),
      }
      expect(provesInclusion(sha256, claim)).toBe(true)
      expect(provesInclusion(sha256, { ...claim, leaf: sha256('another') })).toBe(false)
    }
  })

  it('takes saves out with their proofs, which the stand-alone checker holds to the key that was handed out', async () => {
    const lines: string[] = []
    for await (const line of provedLines(world.db, [{}])) lines.push(line)
    const [key] = await world.db('ledger.signing_key').pluck<string[]>('line')
    const checked = (file: readonly string[], more = {}) =>
      verify(Readable.from(file), { key: key!, nowMs: Date.now(), ...more })
    const saves = Number((await world.db('ledger.head').first('last_save_id')).last_save_id)
    expect(await checked(lines)).toMatchObject({ saves, failed: 0, skipped: 0, checkpoint: { size: saves } })
    const forged = lines.map((line, at) => (at === 5 ? line.replace(/"after":"([^"]*)"\}/, '"after":"$1x"}') : line))
    expect(forged[5]).not.toBe(lines[5])
    expect((await checked(forged)).findings).toEqual([
      expect.objectContaining({ line: 6, rule: '3', outcome: 'failed' }),
    ])
    const [seal] = await world.db('ledger.seal').where({ number: 2 }).pluck<string[]>('note')
    // Against an older seal the proofs are of another tree.
    expect((await checked(lines, { seal })).failed).toBeGreaterThan(0)
  })

  it('opens only the values of changes that were asked for', async () => {
    const [amount] = await world.db('spoor.field').where({ column_name: 'amount' }).pluck<number[]>('id')
    const asked = { what: { part: 'what', exclude: false, types: [], fields: [amount!] } } as const
    for (const scopes of [[asked], [{}, asked]]) {
      const lines: string[] = []
      for await (const line of provedLines(world.db, scopes)) lines.push(line)
      const opened = lines
        .slice(1, -1)
        .flatMap((line) => (JSON.parse(line) as { openings: { fieldId: number }[] }).openings)
      expect(new Set(opened.map((one) => one.fieldId))).toEqual(new Set([amount]))
      const [key] = await world.db('ledger.signing_key').orderBy('number', 'desc').pluck<string[]>('line')
      expect(await verify(Readable.from(lines), { key: key!, nowMs: Date.now() })).toMatchObject({ failed: 0 })
    }
  })

  it('is done by one of two servers, without a fork', async () => {
    const other = new Sealer({ db: world.db, key: SigningKey.open(directory), outside, log: silentLog })
    await world.business.query(`update item set amount = amount + 1 where id < 20`)
    await world.collect()
    const before = Number((await latestSeal(world.db))!.number)
    const outcomes = await Promise.allSettled([sealer.seal(), other.seal(), sealer.seal(), other.seal()])
    expect(outcomes.some((one) => one.status === 'fulfilled' && one.value)).toBe(true)
    expect(Number((await latestSeal(world.db))!.number)).toBe(before + 1)
    expect(await check()).toEqual([])
  })

  it('covers what people do in Spoor also while nothing is saved', async () => {
    const before = (await latestSeal(world.db))!
    for (const words of ['quiet 1', 'quiet 2']) {
      await recordEvent(world.db, { kind: 'export', personId: null, words })
      await sealEverything()
    }
    const after = (await latestSeal(world.db))!
    expect(after.size).toBe(before.size)
    expect(Number(after.number)).toBeGreaterThanOrEqual(Number(before.number) + 2)
    expect(await check()).toEqual([])
    expect(
      (await altered(`update ledger.event set words = 'loud' where words = 'quiet 1'`)).map((one) => one.words),
    ).toContainEqual(expect.stringMatching(/Of the events between/))
    await superuser.query(`update ledger.event set words = 'quiet 1' where words = 'loud'`)
    await world.db('spoor.alarm').delete()
  })

  it('refuses another key, and says so', async () => {
    const elsewhere = mkdtempSync(join(tmpdir(), 'spoor-custody-'))
    await world.business.query(`update item set amount = amount + 1 where id = 1`)
    await world.collect()
    const stranger = new Sealer({ db: world.db, key: SigningKey.open(elsewhere), outside, log: silentLog })
    expect(await stranger.seal()).toBe(false)
    expect((await readCustody(world.db)).mismatches[0]!.words).toMatch(/nobody handed over/)
    rmSync(elsewhere, { recursive: true, force: true })
    await sealer.seal()
  })

  it('cannot be done or undone by the application itself', async () => {
    for (const statement of [
      'update ledger.save set label = label',
      'delete from ledger.save',
      'truncate ledger.change',
      'update ledger.seal set size = 1',
      'delete from ledger.seal',
      'update ledger.node set hash = hash',
      'update ledger.event set words = words',
      'delete from ledger.event',
      'update ledger.signing_key set line = line',
      'update ledger.sealing set first_save_id = 9',
      'drop table ledger.seal',
    ])
      await expect(world.db.raw(statement)).rejects.toMatchObject({ code: '42501' })
  })
})

describe('the signing key', () => {
  it('is handed over by the old to the new, which seals from then on', async () => {
    const before = await world.db('ledger.signing_key').pluck<string[]>('line')
    const { line } = await handOver(world.db, directory)
    expect(line).not.toBe(before[0])
    expect(keyLine(sha256, SigningKey.open(directory).named(await originOf(world.db)))).toBe(line)
    await world.business.query(`update item set amount = amount + 1 where id = 7`)
    await world.collect()
    // The one that still has the old key does not seal any more.
    expect(await sealer.seal()).toBe(false)
    sealer = new Sealer({ db: world.db, key: SigningKey.open(directory), outside, log: silentLog })
    expect(await sealer.seal()).toBe(true)
    await world.db('spoor.alarm').delete()
    expect(await check()).toEqual([])
    await superuser.query(`update ledger.signing_key set note = replace(note, 'time 2', 'time 3') where number = 2`)
    expect((await check()).map((one) => one.words)).toContainEqual(expect.stringMatching(/nobody handed over to it/))
    await superuser.query(
      `update ledger.signing_key set note = replace(note, 'time 3', 'time 2') where number = 2; delete from spoor.touched`,
    )
    await world.db('spoor.alarm').delete()
  })
})

describe('checking', () => {
  it('seals nothing more once the newest seals are gone, and finds that also later', async () => {
    const last = (await latestSeal(world.db))!
    const nodes = await superuser.query('select * from ledger.node')
    await superuser.query('delete from ledger.seal where number = $1', [last.number])
    await recordEvent(world.db, { kind: 'export', personId: null, words: 'after the seal was taken away' })
    expect(await sealer.seal()).toBe(false)
    expect(await world.db('spoor.alarm').pluck('words')).toContainEqual(
      expect.stringMatching(/cannot be sealed any further: seal \d+, which is kept outside/),
    )
    // Another server without a copy outside goes on: the check of this one still misses the seal.
    const elsewhere = mkdtempSync(join(tmpdir(), 'spoor-elsewhere-'))
    cpSync(join(directory, 'signing-key.pem'), join(elsewhere, 'signing-key.pem'))
    const other = new Sealer({
      db: world.db,
      key: SigningKey.open(elsewhere),
      outside: new OutsideSeals(elsewhere),
      log: silentLog,
    })
    expect(await other.seal()).toBe(true)
    await world.db('spoor.alarm').delete()
    expect((await check()).map((one) => one.words)).toContainEqual(
      expect.stringMatching(new RegExp(`Seal ${last.number} .*kept outside the database`)),
    )
    await superuser.query('delete from ledger.seal where number >= $1; ', [last.number])
    await superuser.query('delete from ledger.node')
    await world.db('ledger.node').insert(nodes.rows)
    await world.db('ledger.seal').insert(last)
    rmSync(elsewhere, { recursive: true })
  })

  it('reads the tables of the ledger whatever its role was told to read first', async () => {
    await superuser.query(
      `create schema elsewhere; create function elsewhere.forged(text, text) returns boolean language sql as 'select true'; create operator elsewhere.= (leftarg = text, rightarg = text, function = elsewhere.forged); create table elsewhere.save as select * from ledger.save; grant all on schema elsewhere to public; grant all on all tables in schema elsewhere to public; alter role spoor_test_app in database ${world.names.spoor} set search_path = elsewhere, ledger, spoor, pg_catalog`,
    )
    const fresh = connect(world.spoorUrl, { applicationName: 'spoor test', maxConnections: 1, own: true })
    try {
      const { rows } = await fresh.raw<{ rows: { path: string; same: boolean }[] }>(
        `select current_setting('search_path') as path, 'a'::text = 'b'::text as same`,
      )
      expect(rows[0]).toEqual({ path: 'pg_catalog, pg_temp', same: false })
    } finally {
      await fresh.destroy()
      await superuser.query(
        `alter role spoor_test_app in database ${world.names.spoor} reset all; drop schema elsewhere cascade`,
      )
    }
  })

  it('finds nothing in a ledger that nobody touched, and writes that down', async () => {
    expect(await check()).toEqual([])
    const { rows } = await world.db.raw<{ rows: { words: string }[] }>(
      `select words from ledger.event where kind = 'custody' order by id desc limit 1`,
    )
    expect(rows[0]!.words).toBe('checked the whole ledger: everything matches its seals')
    expect((await readCustody(world.db)).lastWhole).toMatchObject({ found: 0 })
  })

  it('takes nothing that is written and sealed meanwhile for an alteration', async () => {
    const writing = (async () => {
      for (let n = 0; n < 12; n++) {
        await world.business.query('update item set amount = amount + 1 where id = $1', [n + 1])
        await world.collect()
        await sealer.seal()
      }
    })()
    for (let n = 0; n < 6; n++) expect(await check()).toEqual([])
    await writing
    expect(await check()).toEqual([])
  })

  it('names the save, the field and the seals around a value that was altered', async () => {
    const [change] = (
      await superuser.query(
        `select c.save_id, c.field_id, c.captured_at from ledger.change c join spoor.field f on f.id = c.field_id where f.column_name = 'amount' and c.save_id = 450`,
      )
    ).rows
    const found = await altered(`update ledger.change set after = after || '0' where save_id = $1 and field_id = $2`, [
      change.save_id,
      change.field_id,
    ])
    expect(
      found.map(({ save_id, field_id, after_seal, before_seal }) => ({ save_id, field_id, after_seal, before_seal })),
    ).toContainEqual({ save_id: '450', field_id: change.field_id, after_seal: '1', before_seal: '2' })
    await superuser.query(`update ledger.change set after = left(after, -1) where save_id = $1 and field_id = $2`, [
      change.save_id,
      change.field_id,
    ])
    await world.db('spoor.alarm').delete()
    expect(await check()).toEqual([])
  })

  it.each<[string, string, string, RegExp]>([
    [
      'a time',
      `update ledger.save set captured_at = captured_at - interval '1 microsecond' where id = 300`,
      `update ledger.save set captured_at = captured_at + interval '1 microsecond' where id = 300`,
      /Save 300 .* is not as it was written/,
    ],
    [
      'an actor',
      `update ledger.save set actor_id = actor_id + 1 where id = 300`,
      `update ledger.save set actor_id = actor_id - 1 where id = 300`,
      /Save 300 .* is not as it was written/,
    ],
    [
      'an action',
      `update ledger.save set action = 'delete' where id = 500`,
      `update ledger.save set action = 'change' where id = 500`,
      /Save 500 .* is not as it was written/,
    ],
    [
      'where sealing began',
      `update ledger.sealing set first_save_id = first_save_id + 1`,
      `update ledger.sealing set first_save_id = first_save_id - 1`,
      /no longer what was sealed/,
    ],
    [
      'how many saves there are',
      `update ledger.head set last_save_id = last_save_id + 3`,
      `update ledger.head set last_save_id = last_save_id - 3`,
      /is missing from the ledger/,
    ],
    [
      'an actor’s name',
      `update ledger.save set actor_name = 'Somebody else' where id = 300`,
      `update ledger.save set actor_name = 'login business_app' where id = 300`,
      /Save 300 .* is not as it was written/,
    ],
    [
      'the time of collecting',
      `update ledger.save set collected_at = collected_at - interval '1 day' where id = 300`,
      `update ledger.save set collected_at = collected_at + interval '1 day' where id = 300`,
      /Save 300 .* is not as it was written/,
    ],
    [
      'the leaf alone',
      `update ledger.save set leaf = set_byte(leaf, 3, get_byte(leaf, 3) # 1) where id = 300`,
      `update ledger.save set leaf = set_byte(leaf, 3, get_byte(leaf, 3) # 1) where id = 300`,
      /leaf stored with save 300/,
    ],
    [
      'a change’s record',
      `update ledger.change set record_key = '["9"]' where save_id = 300`,
      `update ledger.change set record_key = (select record_key from ledger.save where id = 300) where save_id = 300`,
      /record is not that of the save/,
    ],
    [
      'a salt',
      `update ledger.change set salt = set_byte(salt, 0, get_byte(salt, 0) # 1) where save_id = 300`,
      `update ledger.change set salt = set_byte(salt, 0, get_byte(salt, 0) # 1) where save_id = 300`,
      /Save 300 .*of this change, the value before is not as written/,
    ],
    [
      'a value after',
      `update ledger.change set after = after || 'x' where save_id = 300`,
      `update ledger.change set after = left(after, -1) where save_id = 300`,
      /Save 300 .*of this change, the value after is not as written/,
    ],
    [
      'a missing node',
      `update ledger.node set place = -1 where height = 8 and place = 1`,
      `update ledger.node set place = 1 where place = -1`,
      /node over saves 257 to 512 is missing/,
    ],
    [
      'a node',
      `update ledger.node set hash = set_byte(hash, 0, get_byte(hash, 0) # 1) where height = 8 and place = 0`,
      `update ledger.node set hash = set_byte(hash, 0, get_byte(hash, 0) # 1) where height = 8 and place = 0`,
      /node over saves 1 to 256/,
    ],
    [
      'a seal’s root',
      `update ledger.seal set root = set_byte(root, 0, get_byte(root, 0) # 1) where number = 2`,
      `update ledger.seal set root = set_byte(root, 0, get_byte(root, 0) # 1) where number = 2`,
      /Seal 2 says other/,
    ],
    [
      'a seal’s note',
      `update ledger.seal set note = replace(note, 'time 2', 'time 3') where number = 2`,
      `update ledger.seal set note = replace(note, 'time 3', 'time 2') where number = 2`,
      /Seal 2 does not hold/,
    ],
    [
      'an event',
      `update ledger.event set words = words || '.' where words = 'round 1'`,
      `update ledger.event set words = 'round 1' where words = 'round 1.'`,
      /Of the events between seal \d+ and seal \d+/,
    ],
    [
      'a count by field',
      `update ledger.hour_field set changes = changes + 1`,
      `update ledger.hour_field set changes = changes - 1`,
      /count of changes of a field/,
    ],
    [
      'a count by actor',
      `update ledger.hour_actor set saves = saves + 1`,
      `update ledger.hour_actor set saves = saves - 1`,
      /count of an actor in the hour/,
    ],
    [
      'a count by month',
      `update ledger.month_actor set saves = saves + 1`,
      `update ledger.month_actor set saves = saves - 1`,
      /count of an actor in the month/,
    ],
    [
      'a count by kind',
      `update ledger.hour_kind set changes = changes + 1`,
      `update ledger.hour_kind set changes = changes - 1`,
      /count of a kind of actor/,
    ],
    ['a run', `update ledger.run set saves = saves + 1`, `update ledger.run set saves = saves - 1`, /Run \d+ says/],
    [
      'a policy on rows',
      `alter table ledger.save enable row level security; create policy all_rows on ledger.save using (true)`,
      `drop policy all_rows on ledger.save; alter table ledger.save disable row level security`,
      /table ledger.save is not as Spoor made it: a policy/,
    ],
    [
      'a rule',
      `create rule kept as on delete to ledger.run do instead nothing`,
      `drop rule kept on ledger.run`,
      /table ledger.run is not as Spoor made it: a rule \(kept\)/,
    ],
    [
      'a trigger',
      `create trigger quiet before update on ledger.node for each row execute function suppress_redundant_updates_trigger()`,
      `drop trigger quiet on ledger.node`,
      /table ledger.node is not as Spoor made it: a trigger \(quiet\)/,
    ],
    [
      'a view in place of a table',
      `alter table ledger.hour_kind rename to hour_kind_kept; create view ledger.hour_kind as select * from ledger.hour_kind_kept; grant select on ledger.hour_kind to public`,
      `drop view ledger.hour_kind; alter table ledger.hour_kind_kept rename to hour_kind`,
      /table ledger.hour_kind is not as Spoor made it: a view/,
    ],
    [
      'the order of two saves',
      `update ledger.save set id = 0 where id = 300; update ledger.save set id = 300 where id = 301; update ledger.save set id = 301 where id = 0`,
      `update ledger.save set id = 0 where id = 300; update ledger.save set id = 300 where id = 301; update ledger.save set id = 301 where id = 0`,
      /Save 300 .* is not as it was written/,
    ],
  ])('finds and names %s', async (_, alter, putBack, words) => {
    const found = await altered(alter)
    expect(found.map((one) => one.words)).toContainEqual(expect.stringMatching(words))
    await superuser.query(putBack)
    await world.db('spoor.alarm').delete()
    expect(await check()).toEqual([])
  })

  it('finds a save that was taken out, one that was put in, and an end that was cut off', async () => {
    await superuser.query(
      'create table public.kept as select * from ledger.save where id = 500; create table public.kept_changes as select * from ledger.change where save_id = 500',
    )
    const gone = await altered('delete from ledger.save where id = 500')
    expect(gone.map((one) => one.words)).toContainEqual('Save 500 is missing from the ledger.')
    expect(gone.map((one) => one.words)).toContainEqual(
      expect.stringMatching(/A change says that it belongs to save 500/),
    )
    await superuser.query('insert into ledger.save select * from kept')
    await world.db('spoor.alarm').delete()
    const last = Number((await world.db('ledger.head').first('last_save_id')).last_save_id)
    await superuser.query(`update kept set id = $1`, [last + 5])
    const put = await altered('insert into ledger.save select * from kept')
    expect(put.map((one) => one.words)).toContainEqual(
      `Save ${last + 5} has a number that was never drawn: it was put in.`,
    )
    await superuser.query(`delete from ledger.save where id = $1`, [last + 5])
    await world.db('spoor.alarm').delete()
    const cut = await altered('update ledger.head set last_save_id = last_save_id - 10')
    expect(cut.map((one) => one.words)).toContainEqual(expect.stringMatching(/its end was cut off/))
    await superuser.query('update ledger.head set last_save_id = last_save_id + 10')
    await world.db('spoor.alarm').delete()
    const seal = (await latestSeal(world.db))!
    await superuser.query(
      'create table public.kept_seal as select * from ledger.seal where number = (select max(number) from ledger.seal)',
    )
    const older = await altered('delete from ledger.seal where number = (select max(number) from ledger.seal)')
    expect(older.map((one) => one.words)).toContainEqual(
      expect.stringMatching(new RegExp(`^Seal ${seal.number} .* kept outside the database, is not in it`)),
    )
    await superuser.query('insert into ledger.seal select * from kept_seal')
    await world.db('spoor.alarm').delete()
    expect(await check()).toEqual([])
  })

  it('finds and locates each of a thousand alterations of a single byte, whatever was altered', async () => {
    const random = seeded(4310)
    const targets = await alterable()
    const any = (among: readonly Target[]) => among[Math.floor(random() * among.length)]!
    // Every column is altered at least once; the rest falls where most of the ledger lies.
    const columns = new Map<string, Target[]>()
    for (const target of targets) {
      const name = `${target.table} ${target.column}`
      columns.set(name, [...(columns.get(name) ?? []), target])
    }
    let waiting = [...columns.values()].map(any)
    let done = 0
    for (let batch = 0; batch < 20; batch++) {
      const chosen = new Map<string, Target>()
      // One alteration a row, so that each has to be found on its own.
      const choose = (target: Target) => {
        const row = `${target.table} ${target.row}`
        if (chosen.size === 50 || chosen.has(row)) return false
        chosen.set(row, target)
        return true
      }
      waiting = waiting.filter((target) => !choose(target))
      while (chosen.size < 50) choose(any(targets))
      for (const target of chosen.values()) target.undo = await flip(target, random)
      const found = await check()
      const missed = [...chosen.values()].filter((target) => !found.some((one) => target.located(one)))
      expect(missed.map(({ place }) => `seed 4310, batch ${batch}: ${place}`)).toEqual([])
      for (const target of chosen.values()) await superuser.query(target.undo!.statement, target.undo!.values)
      await world.db('spoor.alarm').delete()
      done += chosen.size
    }
    expect(done).toBe(1000)
    expect(waiting).toEqual([])
    expect(await check()).toEqual([])
  }, 180_000)

  it('keeps an alarm until somebody settles it, once however often it is found, and writes it into the ledger', async () => {
    await superuser.query(`update ledger.save set label = 'forged' where id = 200`)
    await check()
    await check()
    const { mismatches } = await readCustody(world.db)
    expect(mismatches).toHaveLength(1)
    const { rows } = await world.db.raw<{ rows: { n: string }[] }>(
      `select count(*) as n from ledger.event where words like 'found the ledger altered: Save 200 (forged%'`,
    )
    expect(rows[0]!.n).toBe('1')
  })
})
