import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { RecordHits } from '@spoor/contract'
import { findRecords } from '../src/records/find.ts'
import { StandingRecords } from '../src/standing/standing.ts'
import { Taking } from '../src/tracking/taking.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { serve, signIn, type Served } from './browser.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'

let world: World
let served: Served
let following: StandingRecords
const everything = {}

const find = async (words: string) => (await findRecords(world.db, words, undefined, everything, Date.now())).records
const said = (hits: RecordHits['records']) => hits.map(({ key, by }) => [key, by])
const follow = async () => {
  await world.collect()
  while ((await following.readOn()) > 0);
}

beforeAll(async () => {
  world = await makeWorld(`
    create table public.firm (id text primary key, name text, mail text, pin text, fee numeric, seen date);
    insert into firm values ('a', 'Never touched', 'First@Mail.example', 'secret pin', 12.5, '2026-01-01')`)
  await track(world, { firm: ['name', 'mail', 'pin', 'fee', 'seen'] })
  following = new StandingRecords(world.db, silentLog)
  await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
  await world.business.query(
    `insert into firm values ('b', 'Brackwell 100%', 'old@mail.example', 'pin of b', 7, '2026-02-02')`,
  )
  await world.business.query(`update firm set mail = 'new@mail.example', pin = 'other pin' where id = 'b'`)
  await world.business.query(`insert into firm values ('c', 'Gone & <b>away</b>', 'gone@mail.example', null, 7, null)`)
  await world.business.query(`delete from firm where id = 'c'`)
  await world.business.query(`update firm set id = 'b2' where id = 'b'`)
  await follow()
  served = await serve(world)
})
afterAll(async () => {
  await served.close()
  await world.close()
})

describe('a record is found', () => {
  it('by a part of its name, whatever signs that holds, and by its first letters', async () => {
    expect((await find('well 100%')).map((hit) => hit.label)).toEqual(['Brackwell 100%'])
    expect((await find('WELL 100')).map((hit) => hit.key)).toEqual(['["b2"]'])
    expect(await find('well 100_')).toEqual([])
    expect((await find('br')).map((hit) => hit.key)).toEqual(['["b2"]'])
    expect((await find('<b>away')).map(({ key, deleted }) => [key, deleted])).toEqual([['["c"]', true]])
    expect((await find('c')).map((hit) => hit.key)).toContain('["c"]')
    expect(await find('rackwell of nowhere')).toEqual([])
  })

  it('by what it holds and never changed, by what it held, and by what it held last', async () => {
    const [mail] = await world.db('spoor.field').where({ column_name: 'mail' }).pluck<number[]>('id')
    expect(said(await find('first@mail.EXAMPLE'))).toEqual([
      ['["a"]', { fieldId: mail, value: 'First@Mail.example', now: true }],
    ])
    expect(said(await find('old@mail.example'))).toEqual([
      ['["b2"]', { fieldId: mail, value: 'old@mail.example', now: false }],
    ])
    expect(said(await find('new@mail.example'))).toEqual([
      ['["b2"]', { fieldId: mail, value: 'new@mail.example', now: true }],
    ])
    expect((await find('gone@mail.example')).map(({ key, deleted }) => [key, deleted])).toEqual([['["c"]', true]])
    // Numbers and days are everybody's, and a part of a value is a question for Changes.
    expect([...(await find('12.5')), ...(await find('2026-02-02')), ...(await find('old@mail'))]).toEqual([])
  })

  it('by a key that it gave up, under the one it has', async () => {
    await world.business.query(`insert into firm (id, name) values ('former key', null)`)
    await world.business.query(`update firm set id = 'present key', name = 'Moved on' where id = 'former key'`)
    await world.collect()
    expect(said(await find('former key'))).toEqual([['["present key"]', { formerKey: '["former key"]' }]])
  })

  it('by no value of a field that is masked by then, nor of one that was erased', async () => {
    const values = ['secret pin', 'pin of b', 'other pin']
    for (const value of values) expect([value, (await find(value)).length]).toEqual([value, 1])
    const { id, type_id } = (await world.db('spoor.field').where({ column_name: 'pin' }).first())!
    const draft = await readDraft(world.db, world.sourceId)
    await stageDraft(
      world.db,
      world.sourceId,
      draft.revision,
      [{ typeId: type_id, fieldId: id, masked: true }],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'masked by a test', world.admin)
    for (const value of values) expect([value, await find(value)]).toEqual([value, []])

    const ada = await signIn(served, 'ada', 'password of ada')
    const { save_id, field_id } = (await world.db('ledger.change').where({ before: 'old@mail.example' }).first())!
    const { answer } = await ada.send('POST', '/erasures', {
      saveId: String(save_id),
      fieldId: field_id as number,
      reach: 'record',
      reason: 'Article 17, as asked.',
    })
    await world.people.add({ login: 'pat', name: 'Pat', role: 'approver', password: 'password of pat' })
    const pat = await signIn(served, 'pat', 'password of pat')
    expect((await pat.send('PUT', `/erasures/${String(answer['id'])}`, { decision: 'erase' })).status).toBe(200)
    await follow()
    expect([...(await find('old@mail.example')), ...(await find('new@mail.example'))]).toEqual([])
  })

  it('by no value where somebody sees a part of the trail', async () => {
    await world.people.add({ login: 'audrey', name: 'Audrey', role: 'auditor', password: 'password of audrey' })
    const [name] = await world.db('spoor.field').where({ column_name: 'name' }).pluck<number[]>('id')
    await world
      .db('spoor.person')
      .where({ login: 'audrey' })
      .update({ reach: `what=f${name}` })
    const audrey = await signIn(served, 'audrey', 'password of audrey')
    const asked = async (words: string) =>
      (await audrey.send('GET', `/records/find?words=${encodeURIComponent(words)}`)).answer
    expect(await asked('Brackwell')).toMatchObject({ records: [{ label: 'Brackwell 100%', by: null }] })
    expect(await asked('first@mail.example')).toEqual({ records: [] })
    expect(await asked('gone@mail.example')).toEqual({ records: [] })
  })
})
