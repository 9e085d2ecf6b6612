import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { parseScope, type Scope } from '@spoor/core'
import { gapsIn } from '../src/changes/queries/gaps.ts'
import { summarise } from '../src/changes/queries/summary.ts'
import { listEvents } from '../src/ledger/events.ts'
import { Noticing } from '../src/noticing/noticing.ts'
import { serve, signIn, type Served } from './browser.ts'
import { withActorContext } from './context.ts'
import { ledger, makeWorld, silentLog, track, type World } from './support.ts'

/** What stands out, kept as saves are collected; and what people say to one another about it. */
let world: World
let served: Served

beforeAll(async () => {
  world = await makeWorld(
    'create table public.account (id int primary key, holder text, number text); create table public.secret (id int primary key, code numeric)',
  )
  await track(world, { account: ['holder', 'number'], secret: ['code'] })
  await world.business.query(`insert into account select n, 'holder ' || n, 'N' || n from generate_series(1, 20) n`)
  served = await serve(world)
  for (const [login, role, actorName] of [
    ['rea', 'reviewer'],
    ['con', 'contributor', 'Con Tributor'],
    ['other', 'contributor', 'Other Person'],
  ] as const)
    await world.people.add({
      login,
      name: login,
      role,
      password: `password of ${login}`,
      ...(actorName ? { actorName } : {}),
    })
})
afterAll(async () => {
  await served.close()
  await world.close()
})

const sign = (login: string) => signIn(served, login, `password of ${login}`)
async function set(id: number, number: string, actor = 'Con Tributor'): Promise<string> {
  await withActorContext(world.business, { actor }, `update account set number = '${number}' where id = ${id}`)
  await world.collect()
  return (await ledger(world)).at(-1)!.id
}
/** Reads on until nothing is left, on a noticing of its own, as after a restart. */
async function notice(noticing = new Noticing(world.db, silentLog)): Promise<void> {
  while ((await noticing.readOn()) > 0);
}
const stories = () =>
  world.db('spoor.story').orderBy('id').select<{ id: number; story: string; saves: number }[]>('id', 'story', 'saves')

describe('noticing as saves are collected', () => {
  it('tells a story once, and extends it when it goes on, whether or not it was restarted between', async () => {
    const noticing = new Noticing(world.db, silentLog)
    await set(1, 'elsewhere')
    await notice(noticing)
    // The application's own login is not known by anybody: the rows it was begun with stand out.
    const before = (await stories()).length
    await set(1, 'N1')
    await notice(noticing)
    const told = (await stories()).at(-1)!
    expect(await stories()).toHaveLength(before + 1)
    expect(told).toMatchObject({ saves: 2 })
    await notice()
    expect((await stories()).map(({ story }) => story)).toEqual([
      ...new Set((await stories()).map(({ story }) => story)),
    ])
    await set(1, 'elsewhere')
    await notice()
    expect((await stories()).find((one) => one.id === told.id)).toMatchObject({ saves: 3 })
  })

  it('is the same set of saves in the scope sentence', async () => {
    const told = (await stories()).at(-1)!
    const { scope } = parseScope(new URLSearchParams(`state=s${told.id}`))
    expect(await summarise(world.db, [scope], Date.now())).toMatchObject({ saves: 3, changes: 3 })
    const listed = await (await sign('rea')).send('GET', `/changes/saves?scope=state%3Ds${told.id}`)
    expect(listed.answer['saves']).toHaveLength(3)
  })

  it('has gaps of its own record types and its own spell beside it, and no others', async () => {
    const told = await world
      .db('spoor.story')
      .orderBy('id', 'desc')
      .first<{ id: number; from_at: string }>('id', 'from_at')
    const { scope } = parseScope(new URLSearchParams(`state=s${told.id}`))
    const [number, code] = await Promise.all(
      ['number', 'code'].map((name) =>
        world.db('spoor.field').where({ column_name: name }).first<{ id: number }>('id'),
      ),
    )
    const trx = await world.db.transaction()
    try {
      for (const field of [number!, code!])
        await trx('spoor.coverage').insert({
          field_id: field.id,
          keep: 'values',
          from_at: trx.fn.now(),
          to_at: told.from_at,
          ended_because: 'capture triggers were taken away',
        })
      const fields = async (scope: Scope) => (await gapsIn(trx, [scope], Date.now())).map((gap) => gap.fieldId)
      expect(new Set(await fields({}))).toEqual(new Set([number!.id, code!.id]))
      expect(await fields(scope)).toEqual([number!.id])
    } finally {
      await trx.rollback()
    }
  })

  it('is tried on the past before it is changed, and then tells by the new settings', async () => {
    const admin = await signIn(served, 'ada', 'password of ada')
    const before = (await stories()).length
    const settings = { zone: 'UTC', rules: { 'there-and-back': { on: false, parameters: {} } } }
    expect((await admin.send('PUT', '/noticing/settings')).answer.code).toBe('trial-unfinished')
    expect((await admin.send('POST', '/noticing/trial', { ...settings, zone: 'Nowhere/Else' })).status).toBe(400)
    expect(
      (
        await admin.send('POST', '/noticing/trial', {
          zone: 'UTC',
          rules: { factor: { on: true, parameters: { percent: 1e9 } } },
        })
      ).status,
    ).toBe(400)
    expect((await admin.send('POST', '/noticing/trial', settings)).status).toBe(200)
    const outcome = async () =>
      ((await admin.send('GET', '/noticing/settings')).answer['trial'] as { outcome: unknown } | null)?.outcome
    await expect.poll(outcome, { timeout: 10_000 }).toMatchObject({ before, after: before - 1, gone: 1, added: 0 })
    expect(await stories()).toHaveLength(before)
    expect((await admin.send('PUT', '/noticing/settings')).status).toBe(200)
    expect(await stories()).toHaveLength(before - 1)
    await notice()
    expect(await stories()).toHaveLength(before - 1)
    await admin.send('POST', '/noticing/trial', { zone: 'UTC', rules: {} })
    await expect.poll(outcome, { timeout: 10_000 }).toMatchObject({ after: before, added: 1 })
    await admin.send('PUT', '/noticing/settings')
    expect(await stories()).toHaveLength(before)
  })

  it('knows at once when a spell of tracking ended and began again, and that values do not join after it', async () => {
    const noticing = new Noticing(world.db, silentLog)
    await notice(noticing)
    await track(world, { account: ['holder'] }, 'off')
    await world.business.query(`update account set holder = 'unseen' where id = 9`)
    await track(world, { account: ['holder'] })
    await withActorContext(
      world.business,
      { actor: 'Con Tributor' },
      `update account set holder = 'seen again' where id = 9`,
    )
    await world.collect()
    await notice(noticing)
    const told = await world.db('spoor.story').whereRaw(`reasons @> '[{"rule": "gap"}]'`)
    expect(told).toHaveLength(1)
  })

  it('is settled with a reason, and written down', async () => {
    const rea = await sign('rea')
    const told = (await stories()).at(-1)!
    const settled = await rea.send('PUT', `/noticing/stories/${told.id}/settled`, {
      on: true,
      why: 'asked, and it was so',
    })
    expect(settled.answer['settled']).toMatchObject({ by: 'rea', why: 'asked, and it was so' })
    const from = new Date(Date.now() - 86_400_000).toISOString()
    const open = await rea.send('GET', `/noticing/stories?from=${from}`)
    expect((open.answer['stories'] as { id: number }[]).map((story) => story.id)).not.toContain(told.id)
    expect((await listEvents(world.db, { kind: 'review' })).events[0]!.words).toBe(
      `settled what stood out (story ${told.id})`,
    )
    await rea.send('PUT', `/noticing/stories/${told.id}/settled`, { on: false })
    expect((await (await sign('con')).send('GET', `/noticing/stories?from=${from}`)).status).toBe(403)
  })
})

describe('what people say of a save', () => {
  it('is a note, an assignment and a question that stand with it, in the list and in the scope', async () => {
    const saveId = await set(3, 'asked about')
    const rea = await sign('rea')
    const { answer } = await rea.send('GET', '/review/people')
    const me = (answer['people'] as { id: number; name: string }[]).find((one) => one.name === 'rea')!
    await rea.send('POST', '/review/notes', { saveIds: [saveId], text: '<b>seen</b>' })
    await rea.send('POST', '/review/assignments', {
      saveIds: [saveId],
      to: me.id,
      dueOn: '2026-12-01',
      note: 'ring them',
    })
    await rea.send('POST', '/review/questions', { saveIds: [saveId], text: 'Why?' })
    const review = (await rea.send('GET', `/review/saves/${saveId}`)).answer
    expect(review).toMatchObject({
      notes: [{ text: '<b>seen</b>', by: 'rea' }],
      assignments: [{ to: { name: 'rea' }, dueOn: '2026-12-01', note: 'ring them', doneAt: null }],
      questions: [{ actor: { name: 'Con Tributor' }, reachable: true, text: 'Why?', answer: null }],
    })
    for (const state of ['asked', 'assigned']) {
      const { answer: listed } = await rea.send('GET', `/changes/saves?scope=state%3D${state}`)
      const saves = listed['saves'] as { id: string; marks: string[] }[]
      expect(saves.map((save) => [save.id, save.marks])).toEqual([[saveId, ['asked', 'assigned']]])
    }
    expect((await rea.send('GET', '/review/waiting')).answer).toMatchObject({
      assigned: [{ note: 'ring them' }],
      asked: [{ text: 'Why?' }],
    })
    const [assignment] = review['assignments'] as { id: number }[]
    await rea.send('PUT', `/review/assignments/${assignment!.id}`, { done: true })
    expect((await rea.send('GET', '/review/waiting')).answer).toMatchObject({ assigned: [] })
  })

  it('is answered once, by the one who was asked, who sees their own saves and questions only', async () => {
    const [con, other, rea] = await Promise.all([sign('con'), sign('other'), sign('rea')])
    const waiting = (await con.send('GET', '/review/waiting')).answer as { toAnswer: { id: number; text: string }[] }
    expect(waiting.toAnswer.map((question) => question.text)).toEqual(['Why?'])
    expect((await other.send('GET', '/review/waiting')).answer).toMatchObject({ toAnswer: [] })
    const path = `/review/questions/${waiting.toAnswer[0]!.id}`
    expect((await other.send('PUT', path, { answer: 'not mine' })).answer.code).toBe('not-yours')
    expect((await other.send('PUT', '/review/questions/99999', { answer: 'x' })).answer.code).toBe('not-yours')
    expect((await con.send('PUT', path, { answer: '   ' })).status).toBe(400)
    expect((await con.send('PUT', path, { answer: 'By order of Hester.' })).status).toBe(200)
    expect((await con.send('PUT', path, { answer: 'Or not.' })).answer.code).toBe('question-answered')
    expect((await rea.send('GET', '/review/waiting')).answer).toMatchObject({
      asked: [],
      answered: [{ answer: 'By order of Hester.', answeredBy: 'con' }],
    })
    expect((await con.send('GET', `/review/saves/1`)).status).toBe(403)
    expect((await con.send('POST', '/review/notes', { saveIds: ['1'], text: 'x' })).status).toBe(403)
  })

  it('refuses what is not there whole, and writes nothing of it', async () => {
    const rea = await sign('rea')
    const [first] = await ledger(world)
    const refused = await rea.send('POST', '/review/notes', { saveIds: [first!.id, '999999'], text: 'half' })
    expect(refused.status).toBe(404)
    expect(await world.db('spoor.note').where({ text: 'half' })).toEqual([])
    expect(
      (await rea.send('POST', '/review/assignments', { saveIds: [first!.id], to: 99999, dueOn: null, note: '' }))
        .status,
    ).toBe(422)
    expect(
      (await rea.send('POST', '/review/assignments', { saveIds: [first!.id], to: 1, dueOn: '2026-13-40', note: '' }))
        .status,
    ).toBe(400)
  })
})

describe('today', () => {
  it('counts what its scope counts, for everybody within their own reach', async () => {
    for (const login of ['rea', 'con']) {
      const person = await sign(login)
      const { answer } = await person.send('GET', '/today')
      const summary = await person.send(
        'GET',
        `/changes/summary?scope=${encodeURIComponent(answer['scope'] as string)}`,
      )
      expect([answer['saves'], answer['changes']]).toEqual([summary.answer['saves'], summary.answer['changes']])
      expect(answer['since']).toBe('first visit')
      expect(answer['stories'] === null).toBe(login === 'con')
      const kinds = answer['kinds'] as { saves: number }[]
      expect(kinds.reduce((sum, { saves }) => sum + saves, 0)).toBe(answer['saves'])
    }
  })

  it('begins where somebody said that they had looked until, and says when nothing came since', async () => {
    const rea = await sign('rea')
    await rea.send('PUT', '/session/looked', { at: new Date(Date.now() + 3_600_000).toISOString() })
    await world
      .db('spoor.person')
      .where({ login: 'rea' })
      .update({ looked_until: new Date(Date.now() + 60_000) })
    const { answer } = await (await sign('rea')).send('GET', '/today')
    expect(answer).toMatchObject({ since: 'last visit', usual: null })
    const empty = await rea.send('GET', '/today?from=2020-01-01T00:00:00Z&until=2020-01-02T00:00:00Z')
    expect(empty.answer).toMatchObject({ saves: 0, changes: 0, records: 0, stories: [], since: 'chosen' })
    expect((await rea.send('GET', '/today?from=2020-01-02T00:00:00Z&until=2020-01-01T00:00:00Z')).status).toBe(400)
    expect((await rea.send('GET', '/today?zone=Nowhere')).status).toBe(400)
  })
})
