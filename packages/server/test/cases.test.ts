import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { unzipSync } from 'fflate'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { caseKinds, type CaseThing } from '@spoor/contract'
import { gatherInCase, listItems, openCase } from '../src/cases/gather.ts'
import {
  changeCase,
  closeCase,
  listCases,
  openCaseAgain,
  readCase,
  removeFromCase,
  writeInCase,
} from '../src/cases/store.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { Sealer } from '../src/custody/sealer.ts'
import { SigningKey } from '../src/custody/signing-key.ts'
import { requestedScopes } from '../src/scope/request.ts'
import { savePage } from '../src/ledger/saves.ts'
import { Packing } from '../src/packs/packing.ts'
import { askForPack, readPack } from '../src/packs/store.ts'
import { addNote, ask, waitingFor } from '../src/review/review.ts'
import { drawing } from './drawing.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'

let world: World
let saves: string[]
let typeId: number

beforeAll(async () => {
  world = await makeWorld('create table public.post (id int primary key, pay numeric)')
  await track(world, { post: '*' })
  for (let id = 1; id <= 12; id++) await world.business.query('insert into post values ($1, 1)', [id])
  await world.business.query('update post set pay = 2 where id > 6')
  await world.collect()
  saves = await world.db('ledger.save').orderBy('id').pluck('id')
  typeId = (await world.db('spoor.record_type').first<{ id: number }>('id')).id
})
afterAll(() => world.close())

const opened = (things: CaseThing[] = []) =>
  openCase(world.db, world.admin, { question: 'Who raised the pay?', ownerId: world.adminId, things })
const save = (saveId: string): CaseThing => ({ kind: 'save', saveId })
const record = (id: number): CaseThing => ({ kind: 'record', typeId, recordKey: `["${id}"]` })
async function savesOf(caseId: number): Promise<string[]> {
  const scopes = await requestedScopes(world.db, `state=c${caseId}`, world.admin)
  const page = await savePage(world.db, scopes, { after: undefined, limit: 100, nowMs: Date.now() })
  return page.saves.map((one) => one.id).sort((a, b) => Number(a) - Number(b))
}

it('gathers each thing once, lets it be taken out with a reason, and is asked for as a scope', async () => {
  const { id } = await opened([save(saves[0]!), save(saves[0]!)])
  const twice = await gatherInCase(world.db, world.admin, id, [save(saves[0]!), save(saves[1]!), record(9)])
  expect(twice).toMatchObject({ gathered: 2, already: 1, case: { gathered: { save: 2, record: 1 } } })
  const ofNine = await world.db('ledger.save').where({ record_key: '["9"]' }).orderBy('id').pluck<string[]>('id')
  expect(ofNine).toHaveLength(2)
  expect(await savesOf(id)).toEqual([saves[0], saves[1], ...ofNine].sort((a, b) => Number(a) - Number(b)))

  const { items } = await listItems(world.db, id, { kind: 'save' })
  expect(items.map((one) => one.thing)).toEqual([save(saves[0]!), save(saves[1]!)])
  expect(items[0]).toMatchObject({ title: expect.stringContaining('post') as string, about: 'created: id, pay' })
  const out = { caseId: id, itemId: String(items[0]!.id), why: 'not about pay' }
  expect(await removeFromCase(world.db, world.admin, out)).toMatchObject({ gathered: { save: 1 } })
  await expect(removeFromCase(world.db, world.admin, out)).rejects.toMatchObject({ code: 'not-found' })
  expect(await savesOf(id)).not.toContain(saves[0])
  // What was taken out can come again; that it was out stays.
  expect(await gatherInCase(world.db, world.admin, id, [save(saves[0]!)])).toMatchObject({ gathered: 1 })
  expect(await world.db('spoor.case_item').where({ case_id: id, save_id: saves[0] })).toHaveLength(2)
})

it('gathers nothing where one of many things is not there', async () => {
  const { id } = await opened()
  for (const missing of [
    save('999999999'),
    record(404),
    { kind: 'pack', packId: 77 },
    { kind: 'note', noteId: '88' },
    { kind: 'question', questionId: 99 },
    { kind: 'correction', correctionId: 66 },
  ] satisfies CaseThing[])
    await expect(gatherInCase(world.db, world.admin, id, [save(saves[0]!), missing])).rejects.toMatchObject({
      code: 'not-found',
    })
  expect((await readCase(world.db, id)).gathered.save).toBe(0)
  await expect(opened([save('999999999')])).rejects.toMatchObject({ code: 'not-found' })
  expect((await listCases(world.db, { state: 'open' })).cases.every((one) => one.gathered.save < 3)).toBe(true)
})

it('is closed with a finding, takes nothing then, and is opened again with a reason', async () => {
  const { id } = await opened([save(saves[2]!)])
  await addNote(world.db, world.admin, [saves[3]!], 'the till was open')
  const [asked] = await ask(world.db, world.admin, [saves[4]!], 'Why?')
  const [note] = await world.db('spoor.note').where({ save_id: saves[3] }).pluck<string[]>('id')
  await gatherInCase(world.db, world.admin, id, [
    { kind: 'note', noteId: note! },
    { kind: 'question', questionId: asked!.id },
  ])
  expect(await savesOf(id)).toEqual([saves[2], saves[3], saves[4]])
  const waiting = (await waitingFor(world.db, world.admin)).cases.find((one) => one.id === id)
  expect(waiting).toMatchObject({ question: 'Who raised the pay?', unanswered: 1 })

  await writeInCase(world.db, world.admin, id, 'Looked at the till.')
  await changeCase(world.db, world.admin, id, { question: 'Who raised it, and why?', ownerId: world.adminId })
  await closeCase(world.db, world.admin, id, 'A slip.')
  for (const refused of [
    () => gatherInCase(world.db, world.admin, id, [save(saves[5]!)]),
    () => writeInCase(world.db, world.admin, id, 'more'),
    () => closeCase(world.db, world.admin, id, 'again'),
    () => changeCase(world.db, world.admin, id, { question: 'Other words', ownerId: world.adminId }),
  ])
    await expect(refused()).rejects.toMatchObject({ code: 'case-closed' })
  expect((await waitingFor(world.db, world.admin)).cases.map((one) => one.id)).not.toContain(id)
  expect((await listCases(world.db, { state: 'closed' })).cases[0]).toMatchObject({ id, finding: 'A slip.' })
  const again = await openCaseAgain(world.db, world.admin, id, 'a second till')
  expect(again).toMatchObject({ state: 'open', finding: null, closedBy: null })
  expect(again.entries.map(({ kind, text }) => [kind, text])).toEqual([
    ['words', 'Looked at the till.'],
    ['question', 'Who raised the pay?'],
    ['finding', 'A slip.'],
    ['opened again', 'a second till'],
  ])
  await expect(openCaseAgain(world.db, world.admin, id, 'twice')).rejects.toMatchObject({ code: 'not-found' })
})

it('belongs to somebody who may work on cases', async () => {
  const [auditor] = await world
    .db('spoor.person')
    .insert({ login: 'otto', name: 'Otto', role: 'auditor', password_hash: 'x', reach: '' })
    .returning<{ id: number }[]>('id')
  const other = { question: 'Who owns this?', ownerId: auditor!.id, things: [] }
  await expect(openCase(world.db, world.admin, other)).rejects.toMatchObject({ code: 'rule-broken' })
})

it('holds, after any acts in any order, what a plain list of them would', async () => {
  const draw = drawing(4)
  const { id } = await opened()
  const held = new Set<string>()
  const drawn = (): CaseThing => (draw(3) === 0 ? record(1 + draw(12)) : save(saves[draw(saves.length)]!))
  const keyOf = (thing: CaseThing) => JSON.stringify(thing)
  for (let step = 0; step < 60; step++) {
    if (draw(3) > 0) {
      const things = Array.from({ length: 1 + draw(4) }, drawn)
      const before = held.size
      for (const one of things) held.add(keyOf(one))
      expect(await gatherInCase(world.db, world.admin, id, things)).toMatchObject({ gathered: held.size - before })
      continue
    }
    const kind = draw(2) === 0 ? 'save' : 'record'
    const { items } = await listItems(world.db, id, { kind })
    const item = items[draw(Math.max(1, items.length))]
    if (!item) continue
    await removeFromCase(world.db, world.admin, { caseId: id, itemId: String(item.id), why: 'drawn' })
    held.delete(keyOf(item.thing))
  }
  const listed = await Promise.all(caseKinds.map((kind) => listItems(world.db, id, { kind })))
  expect(listed.flatMap(({ items }) => items.map((one) => keyOf(one.thing))).sort()).toEqual([...held].sort())
})

it('takes nothing after its end, whoever closes and gathers at once', async () => {
  for (let round = 0; round < 12; round++) {
    const { id } = await opened()
    await Promise.allSettled([
      ...saves.slice(0, 5).map((one) => gatherInCase(world.db, world.admin, id, [save(one)])),
      closeCase(world.db, world.admin, id, 'done'),
      ...saves.slice(5, 8).map((one) => gatherInCase(world.db, world.admin, id, [save(one)])),
    ])
    const { rows } = await world.db.raw<{ rows: { late: number }[] }>(
      `select count(*)::int as late from spoor.case_item i join spoor.case_file c on c.id = i.case_id
        where c.id = ? and i.gathered_at > c.closed_at`,
      [id],
    )
    expect((await readCase(world.db, id)).state).toBe('closed')
    expect(rows[0]!.late).toBe(0)
  }
})

it('becomes a pack that holds it and is gathered in it', async () => {
  const directory = mkdtempSync(join(tmpdir(), 'spoor-cases-'))
  const key = SigningKey.open(directory)
  await new Sealer({ db: world.db, key, outside: new OutsideSeals(directory), log: silentLog }).seal()
  const { id } = await opened([record(9)])
  await writeInCase(world.db, world.admin, id, 'Seen: <b>=1+1</b>')
  const pack = await askForPack(
    world.db,
    {
      title: 'The committee',
      why: 'it was asked',
      scope: `state=c${id}`,
      zone: 'Europe/London',
      columns: ['time', 'record', 'before', 'after'],
      shown: ['pdf'],
      said: true,
      stamped: false,
      blacked: [],
      caseId: id,
    },
    world.admin,
  )
  await workOnce(world, new Packing({ db: world.db, directory, authority: null, key, sealWithinMs: 0 }))
  const { cover } = await readPack(world.db, world.admin, pack.id)
  expect(cover).toMatchObject({ holds: { saves: 2, changes: 3 } })
  expect(cover!.sentence).toContain(`gathered in case ${id} “Who raised the pay?”`)
  const files = unzipSync(readFileSync(join(directory, `pack-${pack.id}.zip`)))
  const said = JSON.parse(Buffer.from(files[`pack-${pack.id}/data/said.json`]!).toString()) as unknown[]
  expect(said).toMatchObject([
    { kind: 'case', number: id, text: 'Who raised the pay?', entries: [{ kind: 'words', text: 'Seen: <b>=1+1</b>' }] },
  ])
  const { items } = await listItems(world.db, id, { kind: 'pack' })
  expect(items).toMatchObject([{ thing: { kind: 'pack', packId: pack.id }, title: `Pack ${pack.id}: The committee` }])
  rmSync(directory, { recursive: true })
})
