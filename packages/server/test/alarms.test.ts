import { afterAll, beforeAll, expect, it } from 'vitest'
import type { Alarm } from '@spoor/contract'
import { raiseAlarm } from '../src/alarms/alarms.ts'
import { Collector } from '../src/collector/collector.ts'
import { readPulse } from '../src/pulse/pulse.ts'
import { serve, signIn, type Served } from './browser.ts'
import { asSuperuser, urlFor } from './names.ts'
import { makeWorld, silentLog, track, type World } from './support.ts'

let world: World
let served: Served

beforeAll(async () => {
  world = await makeWorld('create table thing (id int primary key, name text)')
  await track(world, { thing: '*' })
  served = await serve(world)
})
afterAll(async () => {
  await served.close()
  await world.close()
})

const standing = async (code: string) =>
  await world
    .db('spoor.alarm')
    .where({ code, settled_at: null })
    .orderBy('id')
    .select<{ id: string; words: string; over_at: string | null }[]>('id', 'words', 'over_at')

it('a source that cannot be reached is an alarm of its own for each time, also once it is back', async () => {
  const collector = new Collector(world.sourceId, {
    db: world.db,
    sources: world.sources,
    log: silentLog,
    fingerprintKey: world.vault.derive('fingerprint'),
    everyMs: 20,
    floorEveryMs: 0,
    patienceMs: 300,
    onCollected: () => undefined,
  })
  const { business } = world.names
  const away = (is: boolean) =>
    asSuperuser(urlFor(world.superuserUrl, world.names.spoor), async (client) => {
      const gone = `${business}_away`
      const [from, to] = is ? [business, gone] : [gone, business]
      await expect
        .poll(async () => {
          await client.query('select pg_terminate_backend(pid) from pg_stat_activity where datname = $1', [from])
          return await client.query(`alter database ${from} rename to ${to}`).then(
            () => 'renamed',
            () => 'in use',
          )
        })
        .toBe('renamed')
    })
  world.business.on('error', () => undefined)
  collector.start()
  for (const times of [1, 2]) {
    await away(true)
    await expect.poll(async () => (await standing('source-unreachable')).length, { timeout: 15_000 }).toBe(times)
    expect((await standing('source-unreachable')).at(-1)!.over_at).toBeNull()
    await away(false)
    await expect
      .poll(async () => (await standing('source-unreachable')).at(-1)!.over_at, { timeout: 15_000 })
      .not.toBeNull()
  }
  await collector.stop()
}, 60_000)

it('rows that nobody understands are told with the first of them and why', async () => {
  const source = await world.sources.connection(world.sourceId)
  await source.raw(
    `insert into spoor_capture.outbox (captured_at, type_id, plan_version, action, key, label, delta, login) select now(), 1, 1, 'explode', '["1"]', '', '{}', 'x' from generate_series(1, 3) n`,
  )
  await world.collect()
  expect(await standing('rows-set-aside')).toMatchObject([
    { words: expect.stringMatching(/^3 captured rows .* set aside whole, the first with number \d+: .+/) as string },
  ])
})

it('one that stands is not raised again, and one that was settled is', async () => {
  const wrong = { code: 'source-older', sourceId: world.sourceId, words: 'It came back older.' } as const
  expect(await raiseAlarm(world.db, wrong)).toBe(true)
  expect(await raiseAlarm(world.db, wrong)).toBe(false)
  const ada = await signIn(served, 'ada', 'password of ada')
  const list = (await ada.send('GET', '/alarms')).answer['alarms'] as Alarm[]
  expect(list[0]).toMatchObject({ code: 'source-older', source: 'business', words: wrong.words, settled: null })
  expect((await readPulse(world.db)).alarms).toBe(list.length)
  expect((await ada.send('PUT', `/alarms/${list[0]!.id}/settled`, { why: ' x ' })).status).toBe(400)
  const { answer } = await ada.send('PUT', `/alarms/${list[0]!.id}/settled`, {
    why: 'a backup was put back on purpose',
  })
  expect(answer).toMatchObject({ settled: { by: 'Ada Admin', why: 'a backup was put back on purpose' } })
  expect((await readPulse(world.db)).alarms).toBe(list.length - 1)
  expect((await ada.send('GET', '/alarms?settled=1')).answer).toMatchObject({ count: 1, alarms: [{ id: list[0]!.id }] })
  expect(await raiseAlarm(world.db, wrong)).toBe(true)
})

it('is for those who may know of it to read, and to settle for fewer', async () => {
  await world.people.add({ login: 'rea', name: 'Rea', role: 'reviewer', password: 'password of rea' })
  await world.people.add({ login: 'con', name: 'Con', role: 'contributor', password: 'password of con' })
  const rea = await signIn(served, 'rea', 'password of rea')
  const con = await signIn(served, 'con', 'password of con')
  expect((await rea.send('GET', '/alarms')).status).toBe(200)
  expect((await rea.send('PUT', '/alarms/1/settled', { why: 'it is nothing' })).status).toBe(403)
  expect((await con.send('GET', '/alarms')).status).toBe(403)
  const metrics = await (await fetch(`${served.base.replace('/api/v1', '')}/metrics`)).text()
  expect(metrics).toContain('spoor_alarms{code="rows-set-aside"} 1')
})
