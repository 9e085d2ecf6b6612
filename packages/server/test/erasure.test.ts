import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Readable } from 'node:stream'
import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Erasure } from '@spoor/contract'
import { verify } from '@spoor/verify'
import { evidenceKey } from '../src/evidence/evidence.ts'
import { savePage } from '../src/ledger/saves.ts'
import { draftCorrection } from '../src/corrections/draft.ts'
import { askForCheck, Checking } from '../src/custody/checking.ts'
import { SlicesHere } from '../src/custody/slices.ts'
import { placeOf } from '../src/custody/custody.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { provedLines } from '../src/custody/proved.ts'
import { Sealer } from '../src/custody/sealer.ts'
import { SigningKey } from '../src/custody/signing-key.ts'
import { Taking } from '../src/tracking/taking.ts'
import { Noticing } from '../src/noticing/noticing.ts'
import { serve, signIn, type Served } from './browser.ts'
import { urlFor } from './names.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'

/** Values that the law wants gone are taken out for good, and what proves the rest stays whole. */
let world: World
let served: Served
let directory: string
let superuser: pg.Client
let outside: OutsideSeals
let sealer: Sealer
type Browser = Awaited<ReturnType<typeof signIn>>
const browsers = {} as Record<'ada' | 'pat' | 'rhea' | 'cato', Browser>

const secret = 'Zebedee Quillfeather'
let noteField = 0
let first = ''

beforeAll(async () => {
  world = await makeWorld(
    'create table public.tenant (id int primary key, ref text, note text, rent numeric); create table public.other (id int primary key, note text)',
  )
  await track(world, { tenant: '*', other: '*' })
  for (const [login, role] of [
    ['pat', 'approver'],
    ['rhea', 'reviewer'],
    ['cato', 'contributor'],
  ] as const)
    await world.people.add({ login, name: login, role, password: `password of ${login}` })
  directory = mkdtempSync(join(tmpdir(), 'spoor-erasure-'))
  outside = new OutsideSeals(directory)
  sealer = new Sealer({ db: world.db, key: SigningKey.open(directory), outside, log: silentLog })
  superuser = new pg.Client({ connectionString: urlFor(world.superuserUrl, world.names.spoor) })
  await superuser.connect()
  served = await serve(world)
  for (const login of ['ada', 'pat', 'rhea', 'cato'] as const)
    browsers[login] = await signIn(served, login, `password of ${login}`)
  await world.business.query(
    `insert into tenant select n, 'T' || n, 'note ' || n, n from generate_series(1, 30) n; insert into other values (1, 'x')`,
  )
  await world.business.query(`update tenant set note = $1, rent = rent + 10 where id = 7`, [`${secret} owes`])
  await world.business.query(`update tenant set note = $1 where id = 7`, [`${secret} paid`])
  // What is there as tracking begins holds it as well.
  await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
  await world.business.query(`update tenant set note = null where id = 7`)
  await world.business.query(`update tenant set note = note || '.' where id > 20`)
  await world.collect()
  await sealer.seal()
  noteField = (
    await world
      .db('spoor.field as f')
      .join('spoor.record_type as t', 't.id', 'f.type_id')
      .where({ column_name: 'note', table_name: 'tenant' })
      .first('f.id')
  ).id
  first = (
    await world
      .db('ledger.change')
      .where({ field_id: noteField, after: `${secret} owes` })
      .first('save_id')
  ).save_id
})
afterAll(async () => {
  await superuser.end()
  await served.close()
  await world.close()
  rmSync(directory, { recursive: true, force: true })
})

async function check(): Promise<string[]> {
  await world.db('spoor.alarm').delete()
  await askForCheck(world.db, world.adminId)
  await workOnce(
    world,
    new Checking({
      db: world.db,
      outside,
      evidenceKey: evidenceKey(world.vault),
      openSlices: () => new SlicesHere(world.spoorUrl),
    }),
  )
  return await world.db('spoor.alarm').orderBy('id').pluck('words')
}

/** Every row of Spoor's database that holds a text, whichever table it is in. */
async function whereabouts(text: string): Promise<string[]> {
  const { rows } = await superuser.query<{ name: string }>(
    `select format('%I.%I', n.nspname, c.relname) as name from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind = 'r' and n.nspname in ('ledger', 'spoor', 'public')`,
  )
  const found: string[] = []
  for (const { name } of rows) {
    const { rowCount } = await superuser.query(`select from ${name} r where r::text like $1`, [`%${text}%`])
    if (rowCount) found.push(name)
  }
  return found
}

const wish = (more: object = {}) => ({
  saveId: first,
  fieldId: noteField,
  reach: 'record',
  reason: 'Article 17: the tenant asked us to.',
  ...more,
})
const asked = async (more: object = {}) =>
  (await browsers.ada.send('POST', '/erasures', wish(more))).answer as unknown as Erasure
const decide = (who: Browser, id: number, body: object = { decision: 'erase' }) =>
  who.send('PUT', `/erasures/${id}`, body)

describe('asking', () => {
  it('takes a reason, an existing change, and somebody who may', async () => {
    for (const who of [browsers.rhea, browsers.cato, browsers.pat])
      expect((await who.send('POST', '/erasures', wish())).status).toBe(403)
    expect((await browsers.ada.send('POST', '/erasures', wish({ reason: 'x' }))).status).toBe(400)
    expect((await browsers.ada.send('POST', '/erasures', wish({ saveId: '999999' }))).status).toBe(404)
    expect((await browsers.cato.send('GET', '/erasures')).status).toBe(403)
    expect((await browsers.ada.send('GET', `/erasures/reach?save=${first}&field=${noteField}`)).answer).toEqual({
      record: 4,
    })
  })

  it('erases nothing by itself; it can be taken back by the one who asked, and refused by another', async () => {
    const mine = await asked()
    expect(mine).toMatchObject({ state: 'waiting', changes: 4, mayDecide: false, mayWithdraw: true })
    expect((await decide(browsers.ada, mine.id)).answer['code']).toBe('second-person')
    expect((await decide(browsers.rhea, mine.id)).status).toBe(403)
    expect(await whereabouts(secret)).not.toEqual([])
    expect((await browsers.pat.send('DELETE', `/erasures/${mine.id}`)).status).toBe(403)
    expect((await browsers.ada.send('DELETE', `/erasures/${mine.id}`)).answer).toMatchObject({ state: 'withdrawn' })
    expect((await decide(browsers.pat, mine.id)).answer['code']).toBe('erasure-decided')
    const refused = await asked()
    expect((await decide(browsers.pat, refused.id, { decision: 'refuse', answer: 'no' })).status).toBe(400)
    expect(
      (await decide(browsers.pat, refused.id, { decision: 'refuse', answer: 'It has to be kept six years.' })).answer,
    ).toMatchObject({ state: 'refused', answer: 'It has to be kept six years.', decidedBy: 'pat' })
  })
})

describe('erasing', () => {
  it('leaves the value nowhere in the ledger, and everything else as it was proved', async () => {
    const before = await placeOf(world.db, first)
    const draftOfIt = await draftCorrection(world, { changes: [{ saveId: first, fieldId: noteField }] }, world.admin)
    const draftOfMore = await draftCorrection(world, { changes: [{ saveId: first }] }, world.admin)
    expect(await whereabouts(secret)).toContain('spoor.correction_item')
    // What was merged with it, and what was found to differ from it.
    const applied = await draftCorrection(world, { changes: [{ saveId: first }] }, world.admin)
    await world
      .db('spoor.correction_item')
      .where({ correction_id: applied, field_id: noteField })
      .update({ merged: `${secret}!` })
    await world
      .db('spoor.correction')
      .where({ id: applied })
      .update({ state: 'applied', applied_by: world.adminId, applied_at: world.db.fn.now() })
    const { type_id, record_key } = await world
      .db('ledger.save')
      .where({ id: first })
      .first<{ type_id: number; record_key: string }>('type_id', 'record_key')
    await world.db('spoor.difference').insert({
      type_id,
      record_key,
      label: 'one',
      field_id: noteField,
      kind: 'value',
      trail: secret,
      source: `${secret}?`,
      seen_at: world.db.fn.now(),
    })
    expect(await whereabouts(secret)).toContain('spoor.difference')
    // Noticing remembers where a value went away from, for some days.
    const noticing = new Noticing(world.db, silentLog)
    while ((await noticing.readOn()) > 0);
    await noticing.stop()
    expect(await whereabouts(secret)).toContain('spoor.noticing')
    expect(await whereabouts(secret)).toContain('ledger.found')
    const found = () => world.db('ledger.found').where({ record_key: '["7"]' }).select('place', 'leaf', 'vals')
    const [wasFound] = await found()
    const { id } = await asked()
    const { answer } = await decide(browsers.pat, id)
    expect(answer).toMatchObject({ state: 'erased', changes: 4, decidedBy: 'pat' })
    while ((await noticing.readOn()) > 0);
    await noticing.stop()
    expect(await whereabouts(secret)).toEqual([])
    // A draft goes on without the value, and one of nothing else is gone.
    expect(await world.db('spoor.correction').whereIn('id', [draftOfIt, draftOfMore]).pluck('id')).toEqual([
      draftOfMore,
    ])
    const [isFound] = await found()
    expect(isFound).toMatchObject({ place: wasFound.place, leaf: wasFound.leaf })
    expect((JSON.parse(isFound.vals) as unknown[]).filter((value) => value !== null).length).toBe(
      (JSON.parse(wasFound.vals) as unknown[]).filter((value) => value !== null).length - 1,
    )
    const after = await placeOf(world.db, first)
    expect(after.canonical).toBe(before.canonical)
    expect(after.leaf).toBe(before.leaf)
    expect(before.openings.map((one) => one.fieldId)).toContain(noteField)
    expect(after.openings.map((one) => one.fieldId)).not.toContain(noteField)
    await sealer.seal()
    expect(await check()).toEqual([])
    expect((await decide(browsers.pat, id)).answer['code']).toBe('erasure-decided')
    const { rows } = await superuser.query<{ words: string }>(
      `select words from ledger.event where kind = 'erasure' order by id desc limit 1`,
    )
    expect(rows[0]!.words).toMatch(
      /^erased every change of “.*” of .*, as Ada Admin asked: Article 17: the tenant asked us to\. \(erasure \d+, list [0-9a-f]{64}\)$/,
    )
  })

  it('still proves to somebody outside, with the values closed', async () => {
    const lines: string[] = []
    for await (const line of provedLines(world.db, [{}])) lines.push(line)
    const [key] = await world.db('ledger.signing_key').pluck<string[]>('line')
    const report = await verify(Readable.from(lines), { key: key!, nowMs: Date.now() })
    expect(report).toMatchObject({ failed: 0, checkpoint: { size: report.saves } })
    expect(lines.join('')).not.toContain(secret)
  })

  it('is said wherever the change is shown, and nothing that is asked of its values holds', async () => {
    const page = (query: object) => savePage(world.db, [query], { after: undefined, limit: 100, nowMs: Date.now() })
    const shown = (await page({ what: { part: 'what', exclude: false, types: [], fields: [noteField] } })).saves.find(
      (save) => save.id === first,
    )!
    expect(shown.changes.find((change) => change.fieldId === noteField)).toMatchObject({
      erased: true,
      before: null,
      after: null,
    })
    const toNothing = await page({ value: { part: 'value', exclude: false, tests: [{ test: 'to', value: null }] } })
    expect(toNothing.saves).toEqual([])
    const reveal = await browsers.ada.send('POST', `/changes/saves/${first}/reveal`, { fieldId: noteField })
    expect(reveal.status).toBe(404)
    const csv = await browsers.ada.text('/changes/export.csv?scope=')
    expect(csv).toContain('[erased]')
    expect(csv).not.toContain(secret)
    await expect(
      draftCorrection(world, { changes: [{ saveId: first, fieldId: noteField }] }, world.admin),
    ).rejects.toMatchObject({ code: 'nothing-to-revert' })
    expect((await browsers.ada.send('POST', '/erasures', wish())).answer['code']).toBe('rule-broken')
    const { erasures } = (await browsers.rhea.send('GET', `/erasures?save=${first}`)).answer as unknown as {
      erasures: Erasure[]
    }
    expect(erasures[0]).toMatchObject({ state: 'erased', askedBy: 'Ada Admin', mayDecide: false })
  })

  it('can mean one change alone', async () => {
    const save = (await world.db('ledger.change').where({ field_id: noteField, after: 'note 25.' }).first('save_id'))
      .save_id
    const { id } = await asked({ saveId: save, reach: 'change' })
    expect((await decide(browsers.pat, id)).answer).toMatchObject({ changes: 1 })
    expect(await world.db('ledger.change').where({ field_id: noteField, after: 'note 25' })).toHaveLength(1)
    await sealer.seal()
    expect(await check()).toEqual([])
  })
})

describe('nobody else', () => {
  const as = async (role: 'spoor_test_app' | 'spoor_test_eraser', statement: string) => {
    const client = new pg.Client({ connectionString: urlFor(world.superuserUrl, world.names.spoor, role) })
    await client.connect()
    try {
      await client.query(statement)
    } finally {
      await client.end()
    }
  }

  it.each([
    `update ledger.change set erased = true, before = null, after = null, salt = null`,
    `insert into ledger.erased values (1, 1, 1, null, null)`,
    `delete from ledger.erased`,
  ])('as the application: %s', async (statement) => {
    await expect(as('spoor_test_app', statement)).rejects.toMatchObject({ code: '42501' })
  })

  it.each([
    `update ledger.save set label = ''`,
    `update ledger.change set digest = null`,
    `update ledger.change set record_key = ''`,
    `delete from ledger.change`,
    `delete from ledger.erased`,
    `update ledger.erased set before = null`,
    `insert into ledger.save (id) values (1)`,
    `update ledger.event set words = ''`,
    `select * from spoor.session`,
  ])('as the role that erases: %s', async (statement) => {
    await expect(as('spoor_test_eraser', statement)).rejects.toMatchObject({ code: '42501' })
  })

  it.each<[string, string, string, RegExp]>([
    [
      'values taken out that nobody decided to erase',
      `create table public.undo as select * from ledger.change where save_id = 3;
       insert into ledger.erased (save_id, field_id, erasure_id, before, after)
         select save_id, field_id, 77, encode(sha256(convert_to(chr(2) || left(encode(salt, 'hex'), 32) || coalesce('t' || before, 'n'), 'UTF8')), 'hex'),
                encode(sha256(convert_to(chr(2) || right(encode(salt, 'hex'), 32) || coalesce('t' || after, 'n'), 'UTF8')), 'hex') from ledger.change where save_id = 3;
       update ledger.change set before = null, after = null, salt = null, rise = null, rise_share = null, erased = true where save_id = 3`,
      `delete from ledger.erased where erasure_id = 77; delete from ledger.change where save_id = 3; insert into ledger.change select * from public.undo`,
      /^Erasure 77 is not what was written down/,
    ],
    [
      'a commitment that was kept',
      `update ledger.erased set after = reverse(after) where save_id = (select min(save_id) from ledger.erased)`,
      `update ledger.erased set after = reverse(after) where save_id = (select min(save_id) from ledger.erased)`,
      /is not what was written down about it/,
    ],
    [
      'a value put where one was erased',
      `update ledger.change set after = 'forged' where erased`,
      `update ledger.change set after = null where erased`,
      /emptiness is not that of the save/,
    ],
    [
      'a mark of being erased',
      `update ledger.change set erased = true where save_id = 4`,
      `update ledger.change set erased = false where save_id = 4`,
      /mark of being erased is not that of the save/,
    ],
    [
      'a mark of being erased that was taken away',
      `update ledger.change set erased = false where erased`,
      `update ledger.change c set erased = true from ledger.erased e where e.save_id = c.save_id and e.field_id = c.field_id`,
      /was erased, and is not marked so/,
    ],
    [
      'the commitment to a found value that was erased',
      `update ledger.erased_found set value = reverse(value)`,
      `update ledger.erased_found set value = reverse(value)`,
      /is not what was written down about it/,
    ],
    [
      'a found value put where one was erased',
      `create table public.undo_found as select * from ledger.found where kept is not null; update ledger.found set vals = replace(vals, 'null', '"forged"') where kept is not null`,
      `update ledger.found f set vals = u.vals from public.undo_found u where (u.taking_id, u.place) = (f.taking_id, f.place)`,
      /is not as it was found/,
    ],
    [
      'a found value taken out that nobody decided to erase',
      `create table public.undo_more as select * from ledger.erased_found; delete from ledger.erased_found`,
      `insert into ledger.erased_found select * from public.undo_more`,
      /is gone without an erasure/,
    ],
    [
      'the event about an erasure',
      `update ledger.event set words = words || '.' where kind = 'erasure' and words like 'erased every%'`,
      `update ledger.event set words = rtrim(words, '.') where kind = 'erasure' and words like 'erased every%'`,
      /is not what was written down about it/,
    ],
  ])('a superuser is found out: %s', async (_, alter, putBack, words) => {
    expect(await check()).toEqual([])
    await superuser.query(alter)
    expect((await check()).join('\n')).toMatch(new RegExp(words.source, 'm'))
    await superuser.query(putBack)
    expect(await check()).toEqual([])
  })
})
