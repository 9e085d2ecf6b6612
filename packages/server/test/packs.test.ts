import { execFileSync } from 'node:child_process'
import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { parse } from 'csv-parse/sync'
import { unzipSync } from 'fflate'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { checkPack, contentAt, keyLine, readDirectory, reportLines, type PackEntry, type PackReport } from '@spoor/core'
import { packTools } from '../../verify/src/pack-tools.ts'
import { readTimeStamp, timeStampRequest } from '../../verify/src/time-stamp.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { Sealer } from '../src/custody/sealer.ts'
import { SigningKey } from '../src/custody/signing-key.ts'
import { TimeAuthority } from '../src/custody/authority.ts'
import { Packing } from '../src/packs/packing.ts'
import { askForPack, readPack, type PackBody } from '../src/packs/store.ts'
import { serve, signIn, type Served } from './browser.ts'
import { drawing } from './drawing.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'

/** Under test:faults nothing is left out. */
const everyByte = process.env['SPOOR_FUZZ'] === 'whole'

let world: World
let directory: string
let key: SigningKey
let sealer: Sealer
let fields: Map<string, number>

beforeAll(async () => {
  world = await makeWorld('create table public.post (id int primary key, pay numeric, note text, secret text)')
  await track(world, { post: '*' })
  directory = mkdtempSync(join(tmpdir(), 'spoor-packs-'))
  key = SigningKey.open(directory)
  sealer = new Sealer({ db: world.db, key, outside: new OutsideSeals(directory), log: silentLog })
  const rows = await world.db('spoor.field').select<{ id: number; column_name: string }[]>('id', 'column_name')
  fields = new Map(rows.map((row) => [row.column_name, row.id]))
})
afterAll(async () => {
  await world.close()
  rmSync(directory, { recursive: true })
})

const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const wish = (more: Partial<PackBody> = {}): PackBody => ({
  title: 'The committee',
  why: 'asked in the meeting',
  scope: '',
  zone: 'Europe/London',
  columns: ['time', 'who', 'record', 'field', 'before', 'after', 'reason', 'save'],
  shown: ['csv'],
  said: true,
  stamped: false,
  blacked: [],
  ...more,
})

async function made(more: Partial<PackBody> = {}) {
  await world.collect()
  await sealer.seal()
  const { id } = await askForPack(world.db, wish(more), world.admin)
  await workOnce(world, new Packing({ db: world.db, directory, authority: null, key, sealWithinMs: 0 }))
  const pack = await readPack(world.db, world.admin, id)
  return { pack, bytes: readFileSync(join(directory, `pack-${id}.zip`)) }
}

const check = (bytes: Uint8Array, key?: string, nowMs = Date.now()): Promise<PackReport> =>
  checkPack({ size: bytes.length, read: async (from, to) => bytes.subarray(from, to) }, packTools, { key, nowMs })
const pick = <T>(draw: (n: number) => number, list: readonly T[]): T => list[draw(list.length)]!
const ownKey = async () => (await world.db('ledger.signing_key').first<{ line: string }>('line')).line
const textOf = (bytes: Uint8Array, name: string) => {
  const files = unzipSync(bytes)
  const found = Object.keys(files).find((one) => one.endsWith(name))
  return new TextDecoder().decode(files[found!])
}

describe('a pack', () => {
  it('holds, for any scope, what the ledger has, and is checked by itself alone', async () => {
    const draw = drawing(11)
    for (let round = 0; round < 6; round++) {
      for (let n = 0; n < 25; n++) {
        const id = 1 + draw(40)
        const note = pick(draw, ['plain', '=1+1', 'a "quoted", one', 'λόγος\n—', '\u202Eabc', 'x'.repeat(3000)])
        await sql(
          `insert into post values ($1, $2, $3, 's') on conflict (id) do update set pay = excluded.pay, note = excluded.note`,
          [id, draw(1000), note],
        )
      }
      // Where no seal covers anything between two packs, trees of every size come about.
      const scope = pick(draw, [
        '',
        `what=f${fields.get('pay')}`,
        `what=!f${fields.get('pay')}`,
        `record=t1:["${1 + draw(40)}"]`,
      ])
      const { pack, bytes } = await made({ scope })
      const report = await check(bytes, await ownKey())
      expect(reportLines(report).filter((line) => /FAILED|does not/.test(line))).toEqual([])
      expect(report.verdict).toBe('holds')
      // The oracle: the business's own trail of values, by SQL written by hand.
      const { rows } = await world.db.raw<{ rows: { changes: number; saves: number; records: number }[] }>(
        `select count(*)::int as changes, count(distinct save_id)::int as saves, count(distinct record_key)::int as records from ledger.change
          where ${scope.startsWith('record') ? `record_key = '${scope.slice(10)}'` : scope.includes('!') ? `field_id <> ${fields.get('pay')}` : scope ? `field_id = ${fields.get('pay')}` : 'true'}`,
      )
      expect(pack.cover!.holds).toMatchObject(rows[0]!)
      expect(report.saves).toBe(rows[0]!.saves)
      const lines = parse(textOf(bytes, 'changes.csv'), { columns: true }) as Record<string, string>[]
      expect(lines).toHaveLength(rows[0]!.changes)
    }
  }, 60_000)

  it('any byte that is altered is found', async () => {
    await sql(`insert into post values (900, 1, 'small', 'tiny')`)
    const { pack, bytes } = await made({ scope: 'record=t1:["900"]' })
    const key = await ownKey()
    expect((await check(bytes, key)).verdict).toBe('holds')
    expect(pack.digest).toMatch(/^[0-9a-f]{64}$/)
    const draw = drawing(5)
    // What the manifests name is found by its digest wherever it is altered: there, every seventh byte will do in a hurry.
    const { entries } = (await readDirectory({
      size: bytes.length,
      read: async (from, to) => bytes.subarray(from, to),
    })) as {
      entries: PackEntry[]
    }
    const inData = (at: number) =>
      entries.some((one) => one.name.includes('/data/') && at >= contentAt(one) && at < contentAt(one) + one.packed)
    for (let at = 0; at < bytes.length; at++) {
      if (!everyByte && inData(at) && at % 7 > 0) continue
      const other = Buffer.from(bytes)
      other[at] = other[at]! ^ (1 << draw(8))
      const report = await check(other, key)
      expect([at, report.verdict]).toEqual([at, 'does not hold'])
      expect(report.findings.some((finding) => finding.outcome === 'failed')).toBe(true)
    }
    for (const end of [0, 1, 21, 22, 100, bytes.length >> 1, bytes.length - 1])
      expect((await check(bytes.subarray(0, end), key)).verdict).toBe('does not hold')
    expect((await check(Buffer.concat([bytes, Buffer.from('x')]), key)).verdict).toBe('does not hold')
  }, 120_000)

  it('values that are left out stay committed to, and the first page says how many and why', async () => {
    await sql(`insert into post select n, n, 'seen', 'hidden ' || n from generate_series(2000, 2009) n`)
    const { pack, bytes } = await made({ blacked: [{ fieldId: fields.get('secret')!, why: 'names a child' }] })
    expect(Buffer.from(bytes).includes('hidden 2003')).toBe(false)
    for (const name of ['saves.ndjson', 'changes.csv', 'cover.json'])
      expect(textOf(bytes, name)).not.toContain('hidden 20')
    expect(textOf(bytes, 'changes.csv')).toContain('[blacked out: names a child]')
    const told = pack.cover!.closed.find(({ why }) => why.includes('names a child'))!
    const { rows } = await world.db.raw<{ rows: { n: number }[] }>(
      'select count(*)::int as n from ledger.change where field_id = ?',
      [fields.get('secret')!],
    )
    expect(told).toMatchObject({ values: rows[0]!.n, what: 'secret of posts' })
    expect((await check(bytes, await ownKey())).verdict).toBe('holds')
  })

  it('does not hold under another key, nor before it was made', async () => {
    const { bytes } = await made()
    const other = SigningKey.make(directory, 'other.pem')
    const line = keyLine(packTools.sha256, other.named((await ownKey()).split('+')[0]!))
    expect((await check(bytes, line)).verdict).toBe('does not hold')
    expect((await check(bytes, await ownKey(), Date.parse('2020-01-01'))).verdict).toBe('does not hold')
    // Without a key from elsewhere it holds, and says what is left to do.
    const own = await check(bytes)
    expect(own.verdict).toBe('holds')
    expect(own.findings.map(({ words }) => words).join()).toContain('The key came with the pack')
  })
})

describe('the register', () => {
  let served: Served
  const browsers = new Map<string, Awaited<ReturnType<typeof signIn>>>()
  beforeAll(async () => {
    served = await serve(world, { packsDirectory: directory })
    for (const [login, role] of [
      ['rea', 'reviewer'],
      ['audrey', 'auditor'],
      ['con', 'contributor'],
    ] as const)
      await world.people.add({ login, name: login, role, password: `password of ${login}` })
    await world
      .db('spoor.person')
      .where({ login: 'audrey' })
      .update({ reach: `what=f${fields.get('pay')}` })
    for (const login of ['ada', 'rea', 'audrey', 'con'])
      browsers.set(login, await signIn(served, login, `password of ${login}`))
  })
  afterAll(() => served.close())

  const as = (login: string) => browsers.get(login)!
  async function madeBy(login: string, more: Partial<PackBody> = {}) {
    await world.collect()
    await sealer.seal()
    const { status, answer } = await as(login).send('POST', '/packs', wish(more))
    expect([status, answer['detail']]).toEqual([200, undefined])
    await workOnce(world, new Packing({ db: world.db, directory, authority: null, key, sealWithinMs: 0 }))
    return answer['id'] as number
  }

  it('whoever sees a part makes packs of that part, and knows of no others', async () => {
    await sql(`insert into post values (3000, 77, 'not for the auditor', 'nor this')`)
    const own = await madeBy('audrey')
    const whole = await madeBy('ada')
    const bytes = readFileSync(join(directory, `pack-${own}.zip`))
    for (const name of ['saves.ndjson', 'changes.csv', 'cover.json'])
      expect(textOf(bytes, name)).not.toContain('not for the auditor')
    const { cover } = await readPack(world.db, world.admin, own)
    const [row] = await world
      .db('ledger.change')
      .where({ field_id: fields.get('pay')! })
      .count<{ count: string }[]>('*')
    expect(cover!.holds.changes).toBe(Number(row!.count))
    expect(cover!.within).toContain('pay of posts')
    expect((await check(bytes, await ownKey())).verdict).toBe('holds')
    const { packs } = (await as('audrey').send('GET', '/packs')).answer as { packs: { id: number }[] }
    expect(packs.map(({ id }) => id)).toEqual([own])
    for (const path of [`/packs/${whole}`, `/packs/${whole}/file`])
      expect((await as('audrey').send('GET', path)).status).toBe(404)
    const preview = await as('audrey').send('POST', '/packs/preview', wish())
    expect(JSON.stringify(preview.answer)).not.toContain('not for the auditor')
    expect((preview.answer['fields'] as unknown[]).length).toBe(1)
    for (const [method, path] of [
      ['GET', '/packs'],
      ['POST', '/packs'],
      ['POST', '/packs/preview'],
    ] as const)
      expect((await as('con').send(method, path, method === 'POST' ? wish() : undefined)).status).toBe(403)
  })

  it('tells who took it, and a withdrawn one is gone', async () => {
    const id = await madeBy('rea')
    expect(
      Buffer.from(await as('rea').text(`/packs/${id}/file`))
        .subarray(0, 2)
        .toString(),
    ).toBe('PK')
    expect((await as('ada').send('GET', `/packs/${id}`)).answer).toMatchObject({
      takenCount: 1,
      taken: [{ by: 'rea' }],
    })
    expect((await as('rea').send('POST', `/packs/${id}/withdrawal`, { why: 'wrong scope' })).status).toBe(403)
    expect((await as('ada').send('POST', `/packs/${id}/withdrawal`, { why: 'wrong scope' })).answer).toMatchObject({
      state: 'withdrawn',
      withdrawn: { by: 'Ada Admin', why: 'wrong scope' },
    })
    expect(existsSync(join(directory, `pack-${id}.zip`))).toBe(false)
    expect((await as('rea').send('GET', `/packs/${id}/file`)).answer['code']).toBe('pack-not-there')
    expect((await as('ada').send('POST', `/packs/${id}/withdrawal`, { why: 'again' })).answer['code']).toBe(
      'pack-not-there',
    )
    const events = await world.db('ledger.event').where({ kind: 'export' }).pluck<string[]>('words')
    for (const words of [`took pack ${id}`, `withdrew pack ${id}`]) expect(events).toContain(words)
  })

  it('is handed over by a link that ends, so often and no oftener', async () => {
    const id = await madeBy('rea')
    const link = (body: object, login = 'rea') => as(login).send('POST', `/packs/${id}/links`, body)
    for (const body of [
      { forWhom: 'x', days: 1, most: 1 },
      { forWhom: 'the bank', days: 0, most: 1 },
      { forWhom: 'the bank', days: 1, most: 0 },
    ])
      expect((await link(body)).status).toBe(400)
    expect((await link({ forWhom: 'the bank', days: 1, most: 1 }, 'audrey')).status).toBe(403)
    const { answer } = await link({ forWhom: 'the bank', days: 2, most: 3 })
    const token = answer['linkToken'] as string
    expect((await world.db('spoor.pack_link').pluck<string[]>('token_hash')).join()).not.toContain(token)
    const stranger = (path: string) => fetch(`${served.base}/handed/${path}`)
    expect(await (await stranger(token)).json()).toMatchObject({ number: id, title: 'The committee', left: 3 })
    // Many at once take no more than there are.
    const answers = await Promise.all(Array.from({ length: 8 }, () => stranger(`${token}/file`)))
    expect(answers.map((one) => one.status).sort()).toEqual([200, 200, 200, 404, 404, 404, 404, 404])
    for (const one of answers.filter(({ status }) => status === 200))
      expect((await check(new Uint8Array(await one.arrayBuffer()), await ownKey())).verdict).toBe('holds')
    expect((await as('ada').send('GET', `/packs/${id}`)).answer).toMatchObject({
      takenCount: 3,
      taken: [{ by: 'the link for the bank' }, {}, {}],
      links: [{ forWhom: 'the bank', taken: 3, open: false }],
    })
    const next = (await link({ forWhom: 'the bank', days: 2, most: 3 })).answer as {
      linkToken: string
      pack: { links: { id: number }[] }
    }
    expect((await stranger(next.linkToken)).status).toBe(200)
    expect((await as('rea').send('DELETE', `/packs/${id}/links/${next.pack.links[0]!.id}`)).status).toBe(200)
    const last = (await link({ forWhom: 'the bank', days: 2, most: 3 })).answer as { linkToken: string }
    expect((await as('ada').send('POST', `/packs/${id}/withdrawal`, { why: 'wrong scope' })).status).toBe(200)
    const refusals = await Promise.all(
      [token, next.linkToken, last.linkToken, 'A'.repeat(43)].map((one) => stranger(one).then((r) => r.text())),
    )
    expect(new Set(refusals).size).toBe(1)
  }, 30_000)

  it('what is erased is in no pack that can still be taken', async () => {
    await sql(`insert into post values (4000, 1, 'to be erased', 's')`)
    const id = await madeBy('ada', { scope: 'record=t1:["4000"]' })
    const other = await madeBy('ada', { scope: 'record=t1:["3000"]' })
    const save = await world.db('ledger.save').where({ record_key: '["4000"]' }).first<{ id: string }>('id')
    const body = { saveId: save.id, fieldId: fields.get('note'), reach: 'record', reason: 'asked for by the tenant' }
    const { answer } = await as('ada').send('POST', '/erasures', body)
    await world.people.add({ login: 'pat', name: 'Pat', role: 'approver', password: 'password of pat' })
    const pat = await signIn(served, 'pat', 'password of pat')
    expect((await pat.send('PUT', `/erasures/${answer['id'] as number}`, { decision: 'erase' })).status).toBe(200)
    expect((await as('ada').send('GET', `/packs/${id}`)).answer).toMatchObject({ state: 'withdrawn', cover: null })
    expect((await as('ada').send('GET', `/packs/${other}`)).answer).toMatchObject({ state: 'kept' })
    await new Packing({ db: world.db, directory, authority: null, key }).due()
    expect(existsSync(join(directory, `pack-${id}.zip`))).toBe(false)
    // Made anew it says that the value was erased, and is proved all the same.
    const anew = await madeBy('ada', { scope: 'record=t1:["4000"]' })
    const bytes = readFileSync(join(directory, `pack-${anew}.zip`))
    expect(textOf(bytes, 'changes.csv')).toContain('[erased]')
    expect((await check(bytes, await ownKey())).verdict).toBe('holds')
  })

  it('on paper and in a workbook it says the same', async () => {
    const hostile = ['=cmd()', 'שלום עולם', 'Ελληνικά', '漢字', '\u202Eback', '<b>&amp;</b>', 'line\nbreak', '']
    for (const [n, note] of hostile.entries())
      await sql('insert into post values ($1, $2, $3, $4)', [5000 + n, 1.5, note, 's'])
    const id = await madeBy('ada', { scope: `what=f${fields.get('note')}`, shown: ['pdf', 'xlsx', 'csv'] })
    const bytes = readFileSync(join(directory, `pack-${id}.zip`))
    const files = unzipSync(bytes)
    const pdf = join(directory, 'pack.pdf')
    writeFileSync(pdf, files[`pack-${id}/data/pack.pdf`]!)
    expect(execFileSync('qpdf', ['--check', pdf]).toString()).toContain('No syntax or stream encoding errors')
    const words = execFileSync('pdftotext', ['-layout', pdf, '-']).toString()
    for (const one of [
      'The committee',
      'Changes to note of posts',
      'page 1 of',
      '=cmd()',
      'Ελληνικά',
      '[U+6F22]',
      '[U+202E]back',
      '<b>&amp;</b>',
    ])
      expect(words).toContain(one)
    expect(words).toContain('שלום')
    const sheet = unzipSync(files[`pack-${id}/data/changes.xlsx`]!)
    const content = Object.entries(sheet)
      .map(([name, part]) => (name.endsWith('.xml') ? new TextDecoder().decode(part) : ''))
      .join('')
    expect(content).toContain('=cmd()')
    // As text: a formula has an element of its own.
    expect(content).not.toContain('<f>')
    expect((await check(bytes, await ownKey())).verdict).toBe('holds')
  }, 30_000)

  it('has what was worked out of its changes, and no figure of what is left out', async () => {
    await sql(`insert into post values (950, 5, 'figures', 's')`)
    await sql(`update post set pay = 7 where id = 950`)
    const { pack, bytes } = await made({
      work: 'pivot;rows=field;columns=hour;measure=changes',
      shown: ['csv', 'xlsx', 'pdf'],
    })
    expect((await check(bytes, await ownKey())).verdict).toBe('holds')
    const { rows } = await world.db.raw<{ rows: { name: string; changes: string }[] }>(
      `select f.name || ' of ' || t.plural as name, count(*)::text as changes
         from ledger.change c join spoor.field f on f.id = c.field_id join spoor.record_type t on t.id = f.type_id group by 1`,
    )
    const lines = parse(textOf(bytes, 'worked-out.csv'), { columns: true }) as Record<string, string>[]
    const told = new Map(lines.map((line) => [line['field'], line['changes, in all']]))
    for (const { name, changes } of rows) expect(told.get(name)).toBe(changes)
    expect(told.get('in all')).toBe(String(rows.reduce((sum, { changes }) => sum + Number(changes), 0)))
    expect(pack.cover!.files.map(({ name }) => name)).toEqual(
      expect.arrayContaining(['data/worked-out.csv', 'data/worked-out.xlsx']),
    )
    // On paper, too, where a day's hours have no room beside one another: each of them stands once, and so does the sum.
    const pdf = join(directory, 'worked-out.pdf')
    const paper = Object.entries(unzipSync(bytes)).find(([name]) => name.endsWith('data/pack.pdf'))!
    writeFileSync(pdf, paper[1])
    expect(execFileSync('qpdf', ['--check', pdf]).toString()).toContain('No syntax or stream encoding errors')
    const words = execFileSync('pdftotext', ['-layout', pdf, '-']).toString()
    const [, section = ''] = words.split('What was worked out: Changes by field and hour of the day')
    const [table = ''] = section.split('The changes')
    for (let hour = 0; hour < 24; hour++)
      expect(table.split(`${String(hour).padStart(2, '0')}:00`), `${hour}`).toHaveLength(2)
    for (const { name, changes } of rows) expect(table).toMatch(new RegExp(`${name} .*\\b${changes}\\n`))
    const blacked = [{ fieldId: fields.get('pay')!, why: 'not theirs' }]
    const { id } = await askForPack(
      world.db,
      wish({ work: `figure;fieldId=${fields.get('pay')}`, blacked }),
      world.admin,
    )
    await workOnce(world, new Packing({ db: world.db, directory, authority: null, key, sealWithinMs: 0 }))
    expect(await readPack(world.db, world.admin, id)).toMatchObject({
      state: 'failed',
      failed: expect.stringContaining('is left out there'),
    })
  })

  it('has what was said of its saves, for whoever may read that', async () => {
    await sql(`insert into post values (6000, 1, 'asked about', 's')`)
    await world.collect()
    const save = await world
      .db('ledger.save')
      .where({ record_key: '["6000"]' })
      .first<{ id: string; actor_id: number }>('id', 'actor_id')
    await world.db('spoor.note').insert({ save_id: save.id, text: 'seen by the committee', by: world.adminId })
    const [question] = await world
      .db('spoor.question')
      .insert({
        actor_id: save.actor_id,
        text: 'Why so?',
        by: world.adminId,
        answer: 'A slip',
        answered_by: world.adminId,
        answered_at: world.db.fn.now(),
      })
      .returning<{ id: number }[]>('id')
    const [other] = await world.db('ledger.save').whereNot({ id: save.id }).select<{ id: string }[]>('id').limit(1)
    for (const save_id of [save.id, other!.id])
      await world.db('spoor.question_save').insert({ question_id: question!.id, save_id })
    const scope = 'record=t1:["6000"]'
    const id = await madeBy('rea', { scope, shown: ['pdf'] })
    const bytes = readFileSync(join(directory, `pack-${id}.zip`))
    expect(JSON.parse(textOf(bytes, 'said.json'))).toMatchObject([
      { kind: 'note', text: 'seen by the committee', saves: [save.id] },
      { kind: 'question', text: 'Why so?', answer: 'A slip', saves: [save.id] },
    ])
    const pdf = join(directory, 'said.pdf')
    writeFileSync(pdf, unzipSync(bytes)[`pack-${id}/data/pack.pdf`]!)
    expect(execFileSync('pdftotext', [pdf, '-']).toString()).toContain('A slip')
    expect((await check(bytes, await ownKey())).verdict).toBe('holds')
    const without = await madeBy('audrey', { scope: '' })
    expect(readFileSync(join(directory, `pack-${without}.zip`)).includes('said.json')).toBe(false)
  }, 30_000)

  it('is stamped with the time, or not made', async () => {
    await world.collect()
    await sealer.seal()
    const office = await openssl()
    try {
      const stamping = async (url: string) => {
        const { answer } = await as('ada').send('POST', '/packs', wish({ stamped: true }))
        const authority = new TimeAuthority(url)
        await workOnce(world, new Packing({ db: world.db, directory, authority, key, sealWithinMs: 0 }))
        const { jobs } = (await as('ada').send('GET', '/work')).answer as {
          jobs: { words: string; outcome: string; result: string }[]
        }
        const id = answer['id'] as number
        return { id, job: jobs.find((one) => one.words === `Making pack ${id}`)! }
      }
      const { id } = await stamping(office.url)
      const bytes = readFileSync(join(directory, `pack-${id}.zip`))
      const report = await check(bytes, await ownKey())
      expect(report).toMatchObject({ verdict: 'holds', timeStamp: { by: 'An authority' } })
      expect(Math.abs(Date.parse(report.timeStamp!.at) - Date.now())).toBeLessThan(60_000)
      // Another content, though it was stamped as well, is not what this stamp is about.
      await expect(readTimeStamp(unzipSync(bytes)[`pack-${id}/time-stamp.tsr`]!, Buffer.from('other'))).rejects.toThrow(
        'It is not about this content',
      )
      for (const [url, words] of [
        [office.lies, 'cannot be read as a time-stamp'],
        [office.old, 'not about this content'],
        ['http://127.0.0.1:9/', 'gave no time-stamp'],
      ] as const) {
        const { id: none, job } = await stamping(url)
        expect([job.outcome, job.result]).toEqual(['failed', expect.stringContaining(words)])
        expect((await as('ada').send('GET', `/packs/${none}`)).answer).toMatchObject({
          state: 'failed',
          failed: expect.stringContaining(words) as string,
        })
        expect(existsSync(join(directory, `pack-${none}.zip.part`))).toBe(false)
      }
    } finally {
      office.close()
    }
  }, 60_000)
})

/** An authority by OpenSSL; one whose answers are nonsense, and one that answers about something else. */
async function openssl() {
  const run = (...words: string[]) => execFileSync('openssl', words, { cwd: directory, stdio: 'pipe' })
  writeFileSync(
    join(directory, 'tsa.cnf'),
    `[req]\ndistinguished_name=n\nprompt=no\n[n]\nCN=An authority\n[c]\nextendedKeyUsage=critical,timeStamping\n[tsa]\ndefault_tsa=t\n[t]\nserial=./serial\nsigner_cert=./tsa.pem\nsigner_key=./tsa.key\nsigner_digest=sha256\ndefault_policy=1.2.3\ndigests=sha256\ness_cert_id_alg=sha256\n`,
  )
  writeFileSync(join(directory, 'serial'), '01\n')
  run(
    ...'req -new -x509 -newkey rsa:2048 -nodes -keyout tsa.key -out tsa.pem -days 9 -config tsa.cnf -extensions c'.split(
      ' ',
    ),
  )
  const stamp = (question: Buffer) => {
    writeFileSync(join(directory, 'q.tsq'), question)
    run(...'ts -reply -config tsa.cnf -queryfile q.tsq -out r.tsr'.split(' '))
    return readFileSync(join(directory, 'r.tsr'))
  }
  const old = stamp(Buffer.from(timeStampRequest(packTools.sha256('something else'), new Uint8Array(8))))
  const server = createServer((request, response) => {
    const parts: Buffer[] = []
    request.on('data', (part: Buffer) => parts.push(part))
    request.on('end', () =>
      response.end(request.url === '/lies' ? 'no stamp' : request.url === '/old' ? old : stamp(Buffer.concat(parts))),
    )
  })
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/`
  return { url, lies: `${url}lies`, old: `${url}old`, close: () => server.close() }
}
