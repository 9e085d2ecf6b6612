import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { parse } from 'csv-parse/sync'
import { unzipSync } from 'fflate'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { PackBeside } from '@spoor/contract'
import { checkPack, scopeEntries } from '@spoor/core'
import { packTools } from '../../verify/src/pack-tools.ts'
import { makeBaseline, signBaseline } from '../src/baselines/baselines.ts'
import { KeepingBaselines } from '../src/baselines/keep.ts'
import { raiseAlarm } from '../src/alarms/alarms.ts'
import { readCustody } from '../src/custody/custody.ts'
import { setWitnesses } from '../src/custody/witnesses.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { Sealer } from '../src/custody/sealer.ts'
import { SigningKey } from '../src/custody/signing-key.ts'
import { besideTitle } from '../src/packs/beside.ts'
import { Packing } from '../src/packs/packing.ts'
import { askForPack, readPack, type PackBody } from '../src/packs/store.ts'
import { askToReconcile, Reconciling } from '../src/reconcile/reconciling.ts'
import { StandingRecords } from '../src/standing/standing.ts'
import { Taking } from '../src/tracking/taking.ts'
import { withActorContext } from './context.ts'
import { drawing } from './drawing.ts'
import { asSuperuser } from './names.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'

/** What stands in a pack beside its changes, held against the table itself as it was at the time. */
let world: World
let directory: string
let key: SigningKey
let sealer: Sealer
let typeId: number
let fields: Map<string, number>

beforeAll(async () => {
  world = await makeWorld('create table public.post (id int primary key, name text, pay numeric, note text)')
  await track(world, { post: '*' })
  directory = mkdtempSync(join(tmpdir(), 'spoor-beside-'))
  key = SigningKey.open(directory)
  sealer = new Sealer({ db: world.db, key, outside: new OutsideSeals(directory), log: silentLog })
  const rows = await world.db('spoor.field').select<{ id: number; type_id: number; column_name: string }[]>('*')
  fields = new Map(rows.map((row) => [row.column_name, row.id]))
  typeId = rows[0]!.type_id
  await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
})
afterAll(async () => {
  await world.close()
  rmSync(directory, { recursive: true })
})

const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const field = (name: string) => fields.get(name)!
type Row = { id: number; pay: string | null; note: string | null }
const table = async () => (await sql('select id, pay::text, note from post order by id')).rows as Row[]
/** A moment after everything that was written, and before whatever comes. */
async function moment(): Promise<string> {
  await sleep(5)
  const at = new Date().toISOString()
  await sleep(5)
  return at
}

async function follow(): Promise<void> {
  await world.collect()
  const following = new StandingRecords(world.db, silentLog)
  while ((await following.readOn()) > 0);
}

async function made(more: Partial<PackBody>) {
  await follow()
  await sealer.seal()
  const body: PackBody = {
    title: 'The committee',
    why: 'asked in the meeting',
    scope: '',
    zone: 'Europe/London',
    columns: ['time', 'who', 'record', 'field', 'before', 'after'],
    shown: ['csv', 'xlsx', 'pdf'],
    said: false,
    stamped: false,
    blacked: [],
    ...more,
  }
  const { id } = await askForPack(world.db, body, world.admin)
  await workOnce(world, new Packing({ db: world.db, directory, authority: null, key, sealWithinMs: 0 }))
  const pack = await readPack(world.db, world.admin, id)
  expect(pack.failed).toBeNull()
  const bytes = readFileSync(join(directory, `pack-${id}.zip`))
  const report = await checkPack(
    { size: bytes.length, read: async (from, to) => bytes.subarray(from, to) },
    packTools,
    { nowMs: Date.now() },
  )
  expect(report.failed).toBe(0)
  const files = unzipSync(bytes)
  const textOf = (name: string) =>
    new TextDecoder().decode(files[Object.keys(files).find((one) => one.endsWith(name))!])
  const lines = (n: number) => parse(textOf(`beside-${n}.csv`)) as string[][]
  return { pack, names: Object.keys(files), lines, textOf, report }
}

/** A day of drawn work: rows made, changed and deleted. */
async function work(draw: (n: number) => number, many: number): Promise<void> {
  for (let n = 0; n < many; n++) {
    const id = 1 + draw(25)
    if (draw(8) === 0) await sql('delete from post where id = $1', [id])
    else
      await sql(
        `insert into post values ($1, $2, $3, $4) on conflict (id) do update set pay = excluded.pay, note = excluded.note`,
        [id, `post ${id}`, draw(4) === 0 ? null : draw(100), ['a', '=1+1', '\u202Eb', null][draw(4)]],
      )
  }
}

describe('beside the changes of a pack', () => {
  it('records stand as they stood, a record at two moments, and what moved since a baseline', async () => {
    const draw = drawing(41)
    await work(draw, 60)
    const [a, before] = [await moment(), await table()]
    await world.collect()
    const baseline = await makeBaseline(
      world.db,
      { name: 'The first', typeId, fieldIds: [field('pay'), field('note')], where: [], why: 'to be compared' },
      world.admin,
    )
    await workOnce(world, new KeepingBaselines(world.db))
    await signBaseline(world.db, baseline.id, { meaning: 'approved' }, world.admin)
    await work(draw, 60)
    const [b, after] = [await moment(), await table()]
    await work(draw, 30)

    const grid = {
      beside: 'standing' as const,
      typeId,
      fields: [field('pay'), field('note')],
      where: [],
    } satisfies Partial<PackBeside>
    const both = before.find((row) => after.some((one) => one.id === row.id && one.pay !== row.pay))!
    const later = after.find((row) => row.id === both.id)!
    const { pack, names, lines } = await made({
      scope: new URLSearchParams(
        scopeEntries({ what: { part: 'what', exclude: false, types: [typeId], fields: [] } }),
      ).toString(),
      beside: [
        { ...grid, at: a },
        { ...grid, at: b, where: [{ fieldId: field('pay'), is: 'more', text: '50' }], order: String(-field('pay')) },
        { beside: 'moments', typeId, key: `["${both.id}"]`, a, b },
        { beside: 'baseline', baselineId: baseline.id, until: b },
      ],
    })
    expect(pack.beside).toHaveLength(4)
    for (const n of [1, 2, 3, 4])
      for (const ending of ['csv', 'csv-metadata.json', 'xlsx'])
        expect(names.some((name) => name.endsWith(`data/beside-${n}.${ending}`))).toBe(true)
    expect(pack.cover!.files.map(({ what }) => what).join('\n')).toContain('approved by Ada Admin')

    const inert = (text: string | null) => (text === null ? '' : /^[=+\-@]/.test(text) ? `'${text}` : text)
    const shown = ({ id, pay, note }: Row) => [`["${id}"]`, pay ?? '', inert(note)]
    const byKey = (x: string[], y: string[]) => (x[0]! < y[0]! ? -1 : 1)
    expect(
      lines(1)
        .slice(1)
        .map(([, ...rest]) => rest)
        .sort(byKey),
    ).toEqual(before.map(shown).sort(byKey))
    const rich = after.filter(({ pay }) => Number(pay) > 50)
    expect(lines(2).slice(1)).toHaveLength(rich.length)
    expect(
      lines(2)
        .slice(1)
        .map((line) => Number(line[2])),
    ).toEqual(rich.map(({ pay }) => Number(pay)).sort((x, y) => y - x))

    const moments = new Map(lines(3).map(([name, ...rest]) => [name, rest]))
    expect(moments.get('pay')!.slice(0, 3)).toEqual([both.pay ?? '', later.pay ?? '', 'yes'])
    expect(moments.get('pay')![3]).toMatch(/save \d+/)

    // The oracle: both tables as they were, of those that were there throughout.
    const throughout = (
      await world.db.raw<{ rows: { key: string }[] }>(
        `select record_key as key from ledger.save where action = 'delete' and captured_at > ? and captured_at <= ?`,
        [a, b],
      )
    ).rows.map(({ key: one }) => one)
    const moved = before.flatMap((row) => {
      const now = after.find((one) => one.id === row.id)
      const own = `["${row.id}"]`
      if (throughout.includes(own)) return [[own, '', 'there', 'deleted']]
      return (['pay', 'note'] as const).flatMap((name) =>
        now && now[name] !== row[name] ? [[own, name, inert(row[name]), inert(now[name])]] : [],
      )
    })
    const told = lines(4)
      .slice(1)
      .map(([, own, name, then, now]) => [own!, name!, then!, now!])
    const sorted = (list: string[][]) => list.map((one) => one.join('\t')).sort()
    expect(sorted(told)).toEqual(sorted(moved))
  })

  it('what no save explains stands there, open and settled, and what is left out stays out', async () => {
    await sql(`insert into post values (500, 'five hundred', 5, 'as written')`)
    await follow()
    await asSuperuser(world.superuserUrl, async (client) => {
      await client.query('alter table public.post disable trigger all')
      await client.query(`update public.post set note = 'by nobody', pay = 6 where id = 500`)
      await client.query('alter table public.post enable trigger all')
    })
    await world.db.transaction((trx) => askToReconcile(trx, [typeId], world.adminId))
    const keyOfPrints = world.vault.derive('fingerprint')
    await workOnce(
      world,
      new Reconciling(world.db, world.sources, keyOfPrints),
      new Taking(world.db, world.sources, keyOfPrints),
    )
    const { lines } = await made({
      scope: `record=t${typeId}:["500"]`,
      beside: [
        { beside: 'differences' },
        { beside: 'moments', typeId, key: '["500"]', a: await moment(), b: await moment() },
      ],
      blacked: [{ fieldId: field('pay'), why: 'not theirs' }],
    })
    const differing = lines(1).slice(1)
    expect(differing.map(([, , name, trail, seen, , , settled]) => [name, trail, seen, settled]).sort()).toEqual([
      ['note', 'as written', 'by nobody', 'open'],
      ['pay', '[blacked out: not theirs]', '[blacked out: not theirs]', 'open'],
    ])
    expect(new Map(lines(2).map(([name, held]) => [name, held])).get('pay')).toBe('[blacked out: not theirs]')
  })

  it('claims no sameness of values that begin alike and are longer than what stands there', async () => {
    const long = 'x'.repeat(20_000)
    await sql(`insert into post values (600, 'six hundred', 1, $1)`, [`${long}a`])
    const a = await moment()
    await sql('update post set note = $1 where id = 600', [`${long}b`])
    const { lines } = await made({
      scope: `record=t${typeId}:["600"]`,
      shown: ['csv'],
      beside: [{ beside: 'moments', typeId, key: '["600"]', a, b: await moment() }],
    })
    const told = new Map(lines(1).map(([name, ...rest]) => [name, rest]))
    expect(told.get('note')!.slice(0, 3)).toEqual([`${long}…`, `${long}…`, 'not known'])
    expect(told.get('pay')!.slice(0, 3)).toEqual(['1', '1', 'no'])
  })

  it('how the ledger is kept stands there, with what was wrong by its kind and never by what a source answered', async () => {
    await setWitnesses(world.db, [{ kind: 'folder', place: '/media/seals' }])
    const wrong = { code: 'source-unreachable', sourceId: world.sourceId, words: 'password of nobody refused' } as const
    await raiseAlarm(world.db, wrong)
    const { lines, pack } = await made({ shown: ['csv'], beside: [{ beside: 'custody' }] })
    const told = new Map(lines(1).map(([what, ...rest]) => [what, rest]))
    const [{ saves }] = await world.db('ledger.save').select(world.db.raw('count(*)::int as saves'))
    expect(told.get('saves')![0]).toMatch(new RegExp(`^${saves} under \\d+ seals?, 0 not sealed yet$`))
    expect(told.get('the latest seal')![0]).toContain(`over ${saves} saves`)
    const { fingerprint } = (await readCustody(world.db)).key!
    expect(told.get('the signing key')![0]).toContain(fingerprint)
    expect(told.get('copies in the folder /media/seals')).toEqual(['took no seal yet', ''])
    expect(told.get('alarm of business: the source cannot be reached')![0]).toBe('stands')
    expect(JSON.stringify(lines(1))).not.toContain('password of nobody')
    expect(pack.cover!.files).toContainEqual({ name: 'data/beside-1.csv', what: 'how the ledger is kept' })
  })

  it('holds nowhere what is blacked out by record, person or save, and everywhere what is not', async () => {
    const draw = drawing(77)
    // Each note is written once, so that a note that is found somewhere is that one.
    const changes: { by: string; before: string | null; after: string | null }[] = []
    const notes = new Map<number, string>()
    let tokens = 0
    for (let n = 0; n < 120; n++) {
      const by = ['Anna', 'Ben', 'Cleo'][draw(3)]!
      const id = 700 + draw(12)
      const before = notes.get(id) ?? null
      const free = 700 + draw(12)
      if (before !== null && draw(6) === 0 && !notes.has(free)) {
        // A record goes on under another key.
        await withActorContext(world.business, { actor: by }, `update post set id = ${free} where id = ${id}`)
        notes.delete(id)
        notes.set(free, before)
        continue
      }
      const after = draw(9) === 0 && before !== null ? null : `note${++tokens}x`
      const statement =
        after === null
          ? `delete from post where id = ${id}`
          : `insert into post values (${id}, 'post', null, '${after}') on conflict (id) do update set note = excluded.note`
      await withActorContext(world.business, { actor: by }, statement)
      if (after === null) notes.delete(id)
      else notes.set(id, after)
      changes.push({ by, before, after })
    }
    await world.collect()
    const [anna] = await world.db('spoor.actor').where({ name: 'Anna' }).pluck('id')
    const [last] = await world.db('ledger.change').whereLike('after', 'note%x').orderBy('save_id', 'desc').limit(1)
    const [key] = [...notes.keys()]
    const at = await moment()
    const byKey = (record: string) =>
      world
        .db('ledger.change')
        .where({ field_id: field('note'), record_key: record })
        .select('before', 'after')
    const cases = [
      { scope: `who=a${anna}`, meant: changes.filter(({ by }) => by === 'Anna') },
      { scope: `record=t${typeId}:["${key}"]`, meant: await byKey(`["${key}"]`) },
      { scope: `how=x${last.save_id}&what=f${field('note')}`, meant: [last] },
    ]
    for (const { scope, meant } of cases) {
      const hidden = new Set(meant.flatMap(({ before, after }) => [before, after]).filter((one) => one !== null))
      const { textOf, pack, report } = await made({
        scope: `what=f${field('note')}`,
        shown: ['csv'],
        blackedScopes: [{ scope, why: 'names a child' }],
        beside: [
          { beside: 'standing', typeId, fields: [field('note')], where: [], at },
          { beside: 'moments', typeId, key: `["${key}"]`, a: at, b: at },
        ],
      })
      const all = ['saves.ndjson', 'changes.csv', 'cover.json', 'beside-1.csv', 'beside-2.csv'].map(textOf).join()
      expect([scope, [...hidden].filter((one) => new RegExp(`\\b${one}\\b`).test(all))]).toEqual([scope, []])
      expect(hidden.size).toBeGreaterThan(0)
      const open = changes.filter(
        ({ before, after }) => ![before, after].some((one) => one !== null && hidden.has(one)),
      )
      const lines = parse(textOf('changes.csv'), { columns: true }) as Record<string, string>[]
      const shown = new Set(lines.flatMap(({ before, after }) => [before, after]))
      for (const { before, after } of open)
        for (const one of [before, after])
          if (one !== null) expect([scope, one, shown.has(one)]).toEqual([scope, one, true])
      const closed = lines.filter(({ before }) => before === '[blacked out: names a child]')
      expect(pack.cover!.closed).toContainEqual({
        what: 'note of posts',
        why: 'blacked out: names a child',
        values: closed.length,
      })
      expect(report.verdict).toBe('holds')
    }
    // What is worked out of values would tell them; how many changes there are does not.
    const blackedScopes = [{ scope: `who=a${anna}`, why: 'names a child' }]
    await expect(made({ blackedScopes, work: 'pivot;rows=after' })).rejects.toThrow()
    await made({ blackedScopes, work: 'pivot;rows=who', shown: ['csv'] })
  }, 60_000)

  it('is refused to whoever sees a part, and where there is no such thing', async () => {
    const at = await moment()
    const asked: PackBeside[] = [
      { beside: 'standing', typeId, fields: [field('pay')], where: [], at },
      { beside: 'moments', typeId, key: '["1"]', a: at, b: at },
      { beside: 'differences' },
    ]
    const part = [{}, { what: { part: 'what', exclude: false, types: [], fields: [field('pay')] } }] as const
    for (const one of asked)
      await expect(besideTitle(world.db, one, { scopes: part, role: 'auditor', zone: 'UTC' })).rejects.toMatchObject({
        code: 'not-allowed',
      })
    const all = { scopes: [{}], role: 'reviewer', zone: 'UTC' } as const
    await expect(besideTitle(world.db, { beside: 'baseline', baselineId: 999, until: at }, all)).rejects.toMatchObject({
      code: 'not-found',
    })
  })
})
