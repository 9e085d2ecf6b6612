import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { parse } from 'csv-parse/sync'
import { unzipSync } from 'fflate'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { checkPack, contentAt, keyLine, readDirectory, reportLines, type PackEntry, type PackReport } from '@spoor/core'
import { packTools } from '../../verify/src/pack-tools.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { Sealer } from '../src/custody/sealer.ts'
import { SigningKey } from '../src/custody/signing-key.ts'
import { Packing } from '../src/packs/packing.ts'
import { askForPack, readPack, type PackBody } from '../src/packs/store.ts'
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
  blacked: [],
  ...more,
})

async function made(more: Partial<PackBody> = {}) {
  await world.collect()
  await sealer.seal()
  const { id } = await askForPack(world.db, wish(more), world.admin)
  await workOnce(world, new Packing({ db: world.db, directory, key, sealWithinMs: 0 }))
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
