import { strFromU8, unzipSync } from 'fflate'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { StandingPage } from '@spoor/contract'
import { compareStanding } from '../src/standing/compare.ts'
import { gridWorkbook } from '../src/standing/grid-workbook.ts'
import { KeyLists, standingPage, type StandingRequest } from '../src/standing/list.ts'
import { StandingRecords } from '../src/standing/standing.ts'
import { takeFoundAgain, Taking } from '../src/tracking/taking.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { serve, signIn, type Served } from './browser.ts'
import { Chance } from './mill/chance.ts'
import { asWritten, makeWorld, silentLog, track, workOnce, type World } from './support.ts'

/** Every tracked record as it stands: read from what a follower keeps and what was saved since, held against the table. */
let world: World
let served: Served
let following: StandingRecords
type Browser = Awaited<ReturnType<typeof signIn>>
let ada: Browser

const columns = ['id', 'name', 'amount', 'note'] as const
let typeId = 0
const fieldOf = new Map<string, number>()
const ids = () => columns.map((column) => fieldOf.get(column)!)

beforeAll(async () => {
  world = await makeWorld(
    `create table public."odd thing" (id text primary key deferrable, name text, amount numeric, note text, late text);
     insert into public."odd thing" select n::text, 'was ' || n, n, null from generate_series(1, 20) n`,
  )
  await track(world, { 'odd thing': columns })
  following = new StandingRecords(world.db, silentLog)
  typeId = (await world.db('spoor.record_type').where({ table_name: 'odd thing' }).first<{ id: number }>('id')).id
  for (const { id, name } of await world
    .db('spoor.field')
    .where({ type_id: typeId })
    .select('id', 'column_name as name'))
    fieldOf.set(name as string, id as number)
  await world.people.add({
    login: 'audrey',
    name: 'Audrey',
    role: 'auditor',
    password: 'password of audrey',
  })
  await world
    .db('spoor.person')
    .where({ login: 'audrey' })
    .update({ reach: `what=f${fieldOf.get('name')}` })
  await world.people.add({ login: 'pat', name: 'Pat', role: 'approver', password: 'password of pat' })
  served = await serve(world)
  ada = await signIn(served, 'ada', 'password of ada')
})
afterAll(async () => {
  await following.stop()
  await served.close()
  await world.close()
})

const lists = new KeyLists()

async function pageOf(request: Partial<StandingRequest> = {}): Promise<StandingPage> {
  const plain = {
    words: undefined,
    at: undefined,
    marks: undefined,
    after: undefined,
    where: [],
    order: null,
    limit: 5,
  }
  return await standingPage(world.db, lists, { typeId, fieldIds: ids(), ...plain, ...request })
}

/** All records, page by page. */
async function listed(
  limit = 7,
  words?: string,
  request: Partial<StandingRequest> = {},
): Promise<StandingPage['records']> {
  const records: StandingPage['records'] = []
  for (let after: string | undefined; ;) {
    const page = await pageOf({ words, after, limit, ...request })
    records.push(...page.records)
    if (page.next === null) return records
    after = page.next
  }
}

async function table(): Promise<{ key: string; values: (string | null)[] }[]> {
  const { rows } = await world.business.query<Record<string, string | null>>(
    `select ${columns.map((column) => `${asWritten(`x."${column}"`)} as "${column}"`).join(', ')} from public."odd thing" x`,
  )
  return rows.map((row) => ({ key: JSON.stringify([row['id']]), values: columns.map((column) => row[column] ?? null) }))
}

const cells = ({ values }: StandingPage['records'][number]) =>
  values.map(({ value, cut }) => (cut ? `${value}…` : value))
const sorted = (rows: (string | null)[][]) => rows.map((row) => JSON.stringify(row)).sort()

/** Held against what the table held at moments of the past, whatever became of its records since. */
async function asTheyStood(moments: { at: string; rows: (string | null)[][] }[], chance: Chance): Promise<void> {
  for (const { at, rows } of moments.filter((_, n) => n % 3 === 0)) {
    const limit = 1 + chance.whole(30)
    const then = await listed(limit, undefined, { at })
    expect([at, sorted(then.map(cells))]).toEqual([at, sorted(rows)])
    const [amount, note] = [fieldOf.get('amount')!, fieldOf.get('note')!]
    const least = String(chance.whole(12))
    const more = await listed(limit, undefined, { at, where: [{ fieldId: amount, is: 'more', text: least }] })
    expect(sorted(more.map(cells))).toEqual(
      sorted(rows.filter((row) => row[2] !== null && Number(row[2]) > Number(least))),
    )
    const empty = await listed(limit, undefined, {
      at,
      where: [
        { fieldId: note, is: 'empty', text: '' },
        { fieldId: amount, is: 'filled', text: '' },
      ],
    })
    expect(sorted(empty.map(cells))).toEqual(sorted(rows.filter((row) => row[3] === null && row[2] !== null)))
    const down = await listed(limit, undefined, { at, order: { fieldId: amount, descending: true } })
    const amounts = down.map((row) => cells(row)[2]).filter((one) => one !== null)
    expect(amounts.map(Number)).toEqual(
      rows.flatMap((row) => (row[2] === null ? [] : [Number(row[2])])).sort((a, b) => b - a),
    )
  }
}

describe('records as they stand', () => {
  it('are what the table holds after whatever is written, however far the follower has read', async () => {
    const chance = new Chance(77)
    const texts = ['9 Weir', '10 Weir', 'Ünal', 'a_b%c', '💧'.repeat(150), 'x'.repeat(5000), '', "o'clock", '<b>']
    const text = () => chance.one(texts) + String(chance.whole(50))
    await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
    const page = () => pageOf({ limit: 1 })
    const moments: { at: string; rows: (string | null)[][] }[] = []
    expect(await page()).toMatchObject({ records: [], coming: 20 })
    await following.readOn()
    expect(await page()).toMatchObject({ coming: 0 })
    // As long as a key can be, under a name as long as is put in order.
    await world.business.query('insert into "odd thing" values ($1, $2, 0, null)', [
      Array.from({ length: 1200 }, (_, n) => String.fromCharCode(33 + ((n * 7919) % 90))).join(''),
      Array.from({ length: 300 }, (_, n) => String.fromCodePoint(0x4e00 + ((n * 7919) % 20000))).join(''),
    ])
    for (let round = 0; round < 40; round++) {
      for (let n = 1 + chance.whole(6); n > 0; n--) {
        const id = String(1 + chance.whole(40))
        const deeds: [string, unknown[]][] = [
          ['insert into "odd thing" values ($1, $2, 1, null) on conflict do nothing', [id, text()]],
          ['update "odd thing" set name = $2, note = null where id = $1', [id, text()]],
          ['update "odd thing" set note = $2, amount = amount * 1.10 where id = $1', [id, text()]],
          ['delete from "odd thing" where id = $1', [id]],
          ['update "odd thing" set id = id || $1 where id = $1', [id]],
          [
            `update "odd thing" set id = case id when $1 then $2 else $1 end where id in ($1, $2) and (select count(*) from "odd thing" where id in ($1, $2)) = 2`,
            [id, String(1 + chance.whole(40))],
          ],
        ]
        const [deed, values] = chance.one(deeds)
        // A key that is taken is refused.
        await world.business.query(deed, values).catch(() => undefined)
      }
      // Taken in again, and followed, while what was saved waits to be collected.
      if (chance.whole(5) === 0) {
        await takeFoundAgain(world.db, typeId, world.adminId)
        await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
        while ((await following.readOn()) > 0);
      }
      await world.collect()
      if (chance.whole(3) === 0) await following.readOn()
      const records = await listed(1 + chance.whole(9))
      const held = records.map(({ key, values }) => ({
        key,
        values: values.map(({ value, cut }) => (cut ? `${value}…` : value)),
      }))
      const now = (await table()).map(({ key, values }) => ({
        key,
        values: values.map((value) => (value && value.length > 2000 ? `${value.slice(0, 2000)}…` : value)),
      }))
      const byKey = (a: { key: string }, b: { key: string }) => (a.key < b.key ? -1 : 1)
      expect([round, held.toSorted(byKey)]).toEqual([round, now.toSorted(byKey)])
      expect(new Set(records.map((one) => one.key)).size).toBe(records.length)
      const { rows: clock } = await world.business.query<{ at: string }>(
        `select to_char(clock_timestamp(), 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
      )
      moments.push({ at: clock[0]!.at, rows: now.map(({ values }) => values) })
    }
    await asTheyStood(moments, chance)
  }, 120_000)

  it('stand in the order in which people look for names, and are found by what their name holds', async () => {
    await world.business.query(`delete from "odd thing"`)
    await world.business.query(
      `insert into "odd thing" values ('1', '10 Weir'), ('2', '9 Weir'), ('3', 'mill_100%'), ('4', 'millX100Y')`,
    )
    await world.collect()
    const names = async (words?: string) => (await listed(2, words)).map((one) => one.label)
    expect(await names()).toEqual(['9 Weir', '10 Weir', 'mill_100%', 'millX100Y'])
    while ((await following.readOn()) > 0);
    expect(await names()).toEqual(['9 Weir', '10 Weir', 'mill_100%', 'millX100Y'])
    expect(await names('WEIR')).toEqual(['9 Weir', '10 Weir'])
    expect(await names('mill_100%')).toEqual(['mill_100%'])
  })

  it('say of a value that it was found, and why one is not known', async () => {
    await world.business.query(`insert into "odd thing" values ('5', 'five', 5, 'n', 'late')`)
    await world.collect()
    const late = fieldOf.get('late')!
    const put = async (edit: object) => {
      const draft = await readDraft(world.db, world.sourceId)
      await stageDraft(world.db, world.sourceId, draft.revision, [{ typeId, fieldId: late, ...edit }], world.adminId)
      await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'tracked by a test', world.admin)
    }
    const ofFive = async () => {
      const page = await pageOf({ fieldIds: [late], words: 'five' })
      return page.records[0]!.values[0]!
    }
    expect(await ofFive()).toMatchObject({ value: null, unknown: 'untracked' })
    await put({ keep: 'values' })
    expect(await ofFive()).toMatchObject({ value: null, unknown: 'unseen' })
    await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
    while ((await following.readOn()) > 0);
    expect(await ofFive()).toMatchObject({ value: 'late', unknown: null, found: true })
    await world.business.query(`update "odd thing" set late = 'later' where id = '5'`)
    await world.collect()
    expect(await ofFive()).toMatchObject({ value: 'later', unknown: null, found: false })
    await put({ masked: true, keep: 'values' })
    expect(await ofFive()).toMatchObject({ value: null, unknown: 'masked' })
    await put({ keep: 'off' })
    expect(await ofFive()).toMatchObject({ value: null, unknown: 'untracked' })
  }, 60_000)

  it.each(['has read it', 'has not'])('have no value that was erased, whether the follower %s', async (when) => {
    const key = `e${when.length}`
    await world.business.query(`insert into "odd thing" values ($1, $2, 1, 'kept')`, [key, `to go ${when}`])
    await world.business.query(`update "odd thing" set amount = 2, id = $1 || 'x' where id = $1`, [key])
    await world.collect()
    if (when === 'has read it') while ((await following.readOn()) > 0);
    const name = fieldOf.get('name')!
    const { save_id } = (await world
      .db('ledger.change')
      .where({ field_id: name, after: `to go ${when}` })
      .first())!
    const { answer } = await ada.send('POST', '/erasures', {
      saveId: String(save_id),
      fieldId: name,
      reach: 'record',
      reason: 'Article 17, as asked.',
    })
    const pat = await signIn(served, 'pat', 'password of pat')
    expect((await pat.send('PUT', `/erasures/${String(answer['id'])}`, { decision: 'erase' })).status).toBe(200)
    const there = async () => (await listed()).find((one) => one.key === JSON.stringify([`${key}x`]))!.values
    expect((await there())[1]).toMatchObject({ value: null, unknown: 'erased' })
    while ((await following.readOn()) > 0);
    expect((await there())[1]).toMatchObject({ value: null, unknown: 'erased' })
    expect((await there())[3]).toMatchObject({ value: 'kept' })
    // As it stood before it was erased, too.
    const { rows: clock } = await world.db.raw<{ rows: { at: string }[] }>(
      'select max(captured_at) as at from ledger.save',
    )
    const then = await listed(7, undefined, { at: clock[0]!.at })
    expect(then.find((one) => one.key === JSON.stringify([`${key}x`]))!.values[1]).toMatchObject({
      value: null,
      unknown: 'erased',
    })
    const { rows } = await world.db.raw<{ rows: unknown[] }>('select from spoor.standing where vals::text like ?', [
      `%to go ${when}%`,
    ])
    expect(rows).toEqual([])
  })

  it('are found out where somebody alters what they hold', async () => {
    while ((await following.readOn()) > 0);
    expect(await compareStanding(world.db)).toEqual([])
    const name = fieldOf.get('name')!
    const [kept] = await world
      .db('spoor.standing')
      .whereRaw(`label = 'five' and vals -> ? ->> 2 !~ ':'`, [String(name)])
    const put = (vals: unknown) =>
      world
        .db('spoor.standing')
        .where({ record_key: kept.record_key })
        .update({ vals: JSON.stringify(vals) })
    const [value, at, by] = kept.vals[name] as [string, string, string]
    expect(value).toBe('five')
    for (const other of [
      ['four', at, by],
      [null, at, by],
      [value, at, '999999'],
      [value, at, "x'y"],
    ]) {
      await put({ ...kept.vals, [name]: other })
      expect((await compareStanding(world.db)).map((one) => one.words)).toEqual([
        expect.stringContaining('five as it stands is not what its save says (name,') as string,
      ])
    }
    await put(kept.vals)
    expect(await compareStanding(world.db)).toEqual([])
  })

  it('meet a condition by what they held then, whoever has had their key since', async () => {
    await world.business.query(
      `insert into "odd thing" values ('p', 'goes on', 110), ('r', 'exchanged', 120), ('s', 'exchanged', 1), ('d', 'deleted', 130)`,
    )
    await world.collect()
    const { rows } = await world.db.raw<{ rows: { at: string }[] }>('select clock_timestamp() as at')
    for (const deed of [
      `update "odd thing" set id = 'q' where id = 'p'`,
      `insert into "odd thing" values ('p', 'came after', 3)`,
      `update "odd thing" set amount = 4 where id = 'p'`,
      `update "odd thing" set id = case id when 'r' then 's' else 'r' end where id in ('r', 's')`,
      `update "odd thing" set amount = 5 where id in ('r', 's')`,
      `delete from "odd thing" where id = 'd'`,
      `update "odd thing" set id = 'd' where id = 'q'`,
      `update "odd thing" set amount = 6 where id = 'd'`,
    ])
      await world.business.query(deed)
    await world.collect()
    const where = [{ fieldId: fieldOf.get('amount')!, is: 'more' as const, text: '100' }]
    const then = await listed(3, undefined, { at: rows[0]!.at, where })
    expect(sorted(then.map(cells))).toEqual(
      // Who was deleted before another came to its key is not listed any more (docs/decisions/034).
      sorted([
        ['p', 'goes on', '110', null],
        ['r', 'exchanged', '120', null],
      ]),
    )
    // Marks later than the moment take nobody away who was there.
    const later = await listed(3, 'exchanged', { at: rows[0]!.at, marks: '9999-01-01T00:00:00Z' })
    expect(later.map((row) => row.deletedAt)).toEqual([null, null])
    await world.business.query(`delete from "odd thing" where name = 'exchanged'`)
    await world.collect()
    expect(await listed(3, 'exchanged', { at: rows[0]!.at, marks: '9999-01-01T00:00:00Z' })).toHaveLength(2)
  })

  it('have what changed in a time marked, and who was deleted in it named, and go out as they are shown', async () => {
    await world.business.query(
      `insert into "odd thing" values ('m1', 'marked', 1, '=1+1'), ('m2', 'marked and gone', 2, '')`,
    )
    await world.collect()
    const now = async () => {
      const { rows } = await world.db.raw<{ rows: { at: string }[] }>('select clock_timestamp() as at')
      return rows[0]!.at
    }
    const before = await now()
    await world.business.query(`update "odd thing" set amount = 5 where id = 'm1'`)
    await world.business.query(`update "odd thing" set amount = 6, note = '@x' where id = 'm1'`)
    await world.business.query(`delete from "odd thing" where id = 'm2'`)
    await world.business.query(`insert into "odd thing" values ('m3', 'marked and new', 3, null)`)
    await world.collect()
    const marks = (records: StandingPage['records']) =>
      records.map(({ label, deletedAt, values }) => [label, deletedAt !== null, values.map((cell) => cell.times)])
    const marked = await listed(2, 'marked', { marks: before })
    expect(marks(marked)).toEqual([
      ['marked', false, [0, 0, 2, 1]],
      ['marked and gone', true, []],
      ['marked and new', false, [0, 0, 0, 0]],
    ])
    expect(marks(await listed(2, 'marked', { at: before, marks: '2020-01-01T00:00:00Z' }))).toEqual([
      ['marked', false, [0, 0, 0, 0]],
      ['marked and gone', false, [0, 0, 0, 0]],
    ])
    const query = `typeId=${typeId}&fields=${ids().join(',')}&words=marked`
    expect(await ada.text(`/records/standing.csv?${query}&marks=${encodeURIComponent(before)}`)).toBe(
      [
        '"record","record key","deleted","id","name","amount","note"',
        `"marked","[""m1""]",,"m1","marked","6","'@x"`,
        `"marked and gone","[""m2""]","${marked[1]!.deletedAt}",,,,`,
        '"marked and new","[""m3""]",,"m3","marked and new","3",',
        '',
      ].join('\r\n'),
    )
    expect(await ada.text(`/records/standing.csv?${query}&at=${encodeURIComponent(before)}`)).toContain(
      `"marked and gone","[""m2""]",,"m2","marked and gone","2",""`,
    )
    const workbook = await gridWorkbook(
      world.db,
      new KeyLists(),
      { typeId, fieldIds: ids(), words: 'marked', at: undefined, marks: before, where: [], order: null },
      ['id', 'name', 'amount', 'note'].map((name) => ({ name, baseType: name === 'amount' ? 'numeric' : 'text' })),
      'odd/things',
    )
    const parts = unzipSync(new Uint8Array(workbook))
    const part = (name: RegExp) => strFromU8(parts[Object.keys(parts).find((path) => name.test(path))!]!)
    // A number is one; what a sheet would take for a formula is text.
    expect(part(/worksheets\/sheet1\.xml$/)).toMatch(/<v>6<\/v>/)
    expect(part(/worksheets\/sheet1\.xml$/)).not.toContain('<f>')
    expect(part(/sharedStrings\.xml$/)).toContain('@x')
    const event = await world
      .db('ledger.event')
      .where({ kind: 'export' })
      .orderBy('id', 'desc')
      .first<{ words: string }>()
    expect(event.words).toMatch(/^took odd things as they stood .* out as CSV: id, name, amount and note$/)
  })

  it('are told to whoever sees everything, by fields of the type, from a place that there is', async () => {
    const path = (query: string) => `/records/standing?typeId=${typeId}&${query}`
    const fields = `fields=${ids().join(',')}`
    expect((await ada.send('GET', path(fields))).status).toBe(200)
    expect((await ada.send('GET', path('fields=1,x'))).status).toBe(400)
    expect((await ada.send('GET', path(''))).status).toBe(400)
    expect((await ada.send('GET', path('fields=999999'))).status).toBe(404)
    for (const after of ['{', '[1,2]', '["a"]', 'null'])
      expect((await ada.send('GET', path(`${fields}&after=${encodeURIComponent(after)}`))).status).toBe(400)
    for (const wrong of [
      'at=yesterday',
      'at=2026-13-45T00:00:00Z',
      'marks=7',
      'order=name',
      'where=[',
      'where=[{"fieldId":1}]',
    ])
      expect([wrong, (await ada.send('GET', path(`${fields}&${encodeURI(wrong)}`))).status]).toEqual([wrong, 400])
    const strange = encodeURIComponent('[{"fieldId":999999,"is":"equal","text":""}]')
    expect((await ada.send('GET', path(`${fields}&where=${strange}`))).status).toBe(404)
    expect((await ada.send('GET', path(`${fields}&order=-999999`))).status).toBe(404)
    // Long ago nothing was known, and what is to come is what is now.
    expect((await ada.send('GET', path(`${fields}&at=0001-01-01T00:00:00Z`))).answer).toMatchObject({ records: [] })
    expect((await ada.send('GET', path(`${fields}&at=9999-12-31T23:59:59Z`))).status).toBe(200)
    const audrey = await signIn(served, 'audrey', 'password of audrey')
    expect((await audrey.send('GET', path(fields))).status).toBe(403)
    expect((await audrey.send('GET', `/records/standing.csv?typeId=${typeId}&${fields}`)).status).toBe(403)
  })
})
