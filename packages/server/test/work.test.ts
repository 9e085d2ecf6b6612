import { randomBytes } from 'node:crypto'
import { setTimeout as sleep } from 'node:timers/promises'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { connect } from '../src/database/knex.ts'
import { asOfOneMoment } from '../src/database/one-moment.ts'
import { Problem } from '../src/errors.ts'
import { Answering, answerSoon, forgetAnswers, type Answerer } from '../src/work/answering.ts'
import { ask, askToStop, endOf, type JobRow } from '../src/work/jobs.ts'
import { Work, type JobAtWork, type JobEnd, type JobHandler } from '../src/work/work.ts'
import { serve, signIn, type Served } from './browser.ts'
import { asSuperuser } from './names.ts'
import { makeWorld, silentLog, type World } from './support.ts'

let world: World
let served: Served

beforeAll(async () => {
  world = await makeWorld('create table thing (id int primary key)')
  served = await serve(world)
})
afterAll(async () => {
  await served.close()
  await world.close()
})

/** What each subject's job does; told apart by it since all are of one kind. */
const deeds = new Map<string, (job: JobAtWork) => Promise<JobEnd>>()
const begun: string[] = []

class Deeds implements JobHandler {
  readonly kind = 'checking'
  async perform(job: JobAtWork): Promise<JobEnd> {
    const { name } = job.input as { name: string }
    begun.push(name)
    return await deeds.get(name)!(job)
  }
}

const workBy = (db = world.db) => new Work({ db, databaseUrl: world.spoorUrl, log: silentLog, handlers: [new Deeds()] })

async function wish(name: string, deed: (job: JobAtWork) => Promise<JobEnd>) {
  deeds.set(name, deed)
  return await world.db.transaction((trx) =>
    ask(trx, { kind: 'checking', subject: name, words: `Doing ${name}`, input: { name }, personId: world.adminId }),
  )
}
const rowOf = async (id: number) => (await world.db<JobRow>('spoor.job').where({ id }).first())!

function withResolvers<T>() {
  let resolve!: (value: T) => void
  const promise = new Promise<T>((done) => (resolve = done))
  return { promise, resolve }
}

/** Goes on until it is stopped. */
const endless = async (job: JobAtWork): Promise<JobEnd> => {
  for (let done = 1; ; done++) {
    await job.progress({ done, total: 1_000_000, doing: 'counting' })
    await sleep(10)
  }
}

it('keeps what became of each, and gives a refusal to whoever waits for it', async () => {
  const work = workBy()
  await work.start()
  const { job: good } = await wish('good', () => Promise.resolve({ words: 'It is done.', output: { n: 7 } }))
  expect(await endOf(world.db, good.id)).toMatchObject({ outcome: 'done', result: 'It is done.', output: { n: 7 } })
  const { job: refused } = await wish('refused', () => Promise.reject(new Problem('source-busy', 'Not now.')))
  await expect(endOf(world.db, refused.id)).rejects.toMatchObject({ code: 'source-busy', message: 'Not now.' })
  expect(await rowOf(refused.id)).toMatchObject({ outcome: 'failed', problem: 'source-busy' })
  let tries = 0
  const { job: shaky } = await wish('shaky', () =>
    ++tries < 2 ? Promise.reject(new Error('the wire fell out')) : Promise.resolve({ words: 'Held.' }),
  )
  expect(await endOf(world.db, shaky.id)).toMatchObject({ outcome: 'done', result: 'Held.' })
  expect(tries).toBe(2)
  await work.stop()
})

it('of one kind and subject only one goes on, and it stops when asked', async () => {
  const work = workBy()
  await work.start()
  const { job, fresh } = await wish('long', endless)
  expect(fresh).toBe(true)
  expect(await wish('long', endless)).toMatchObject({ fresh: false, job: { id: job.id } })
  await expect.poll(async () => Number((await rowOf(job.id)).done)).toBeGreaterThan(0)
  await askToStop(world.db, 'checking', 'long')
  expect(await endOf(world.db, job.id)).toMatchObject({ outcome: 'stopped' })
  expect((await wish('long', () => Promise.resolve({ words: 'again' }))).fresh).toBe(true)
  await work.stop()
})

it('what a server leaves behind when it stops is begun again by the next', async () => {
  const first = workBy()
  await first.start()
  const { job } = await wish('left', endless)
  await expect.poll(async () => Number((await rowOf(job.id)).done)).toBeGreaterThan(0)
  await first.stop()
  expect((await rowOf(job.id)).ended_at).toBeNull()
  deeds.set('left', () => Promise.resolve({ words: 'Done by the other.' }))
  const second = workBy()
  await second.start()
  expect(await endOf(world.db, job.id)).toMatchObject({ outcome: 'done', result: 'Done by the other.' })
  await second.stop()
})

it('what a server leaves behind when it dies is begun again, once, while it lives it is left alone', async () => {
  const name = `dying ${randomBytes(4).toString('hex')}`
  const db = connect(world.spoorUrl, { applicationName: name, maxConnections: 4, own: true })
  const dying = workBy(db)
  const living = workBy()
  await dying.start()
  const late = withResolvers<JobEnd>()
  const { job } = await wish('orphan', async (one) => {
    await one.progress({ done: 1 })
    return await late.promise
  })
  await expect.poll(async () => Number((await rowOf(job.id)).done)).toBeGreaterThan(0)
  deeds.set('orphan', () => Promise.resolve({ words: 'Taken over.' }))
  begun.length = 0
  await living.start()
  await sleep(500)
  expect(begun).toEqual([])
  // Its sessions end, and with them what it held.
  await asSuperuser(world.superuserUrl, (client) =>
    client.query('select pg_terminate_backend(pid) from pg_stat_activity where application_name = $1', [name]),
  )
  expect(await endOf(world.db, job.id)).toMatchObject({ outcome: 'done', result: 'Taken over.' })
  expect(begun).toEqual(['orphan'])
  await living.stop()
  // It comes back to life and says what nobody asks it any more.
  late.resolve({ words: 'Done twice.' })
  await dying.stop()
  expect((await rowOf(job.id)).result).toBe('Taken over.')
  await db.destroy()
})

it('goes on when the database did not answer for a while', async () => {
  const work = workBy()
  await work.start()
  const admitting = (is: boolean) =>
    asSuperuser(world.superuserUrl, async (client) => {
      await client.query(`alter database ${world.names.spoor} with allow_connections ${is}`)
      await client.query(
        `select pg_terminate_backend(pid) from pg_stat_activity where application_name = 'spoor work' and datname = $1`,
        [world.names.spoor],
      )
    })
  const { job: before } = await wish('before', () => sleep(1500).then(() => ({ words: 'Done meanwhile.' })))
  await expect.poll(async () => (await rowOf(before.id)).worker).not.toBeNull()
  await admitting(false)
  await sleep(3000)
  const { job: during } = await wish('during', () => Promise.resolve({ words: 'Done all the same.' }))
  await admitting(true)
  expect(await endOf(world.db, before.id)).toMatchObject({ outcome: 'done', result: 'Done meanwhile.' })
  expect(await endOf(world.db, during.id)).toMatchObject({ outcome: 'done', result: 'Done all the same.' })
  await work.stop()
}, 60_000)

it('is listed for those who may know of it, and stopped by those who may do it', async () => {
  await world.people.add({ login: 'rea', name: 'Rea', role: 'reviewer', password: 'password of rea' })
  await world.people.add({ login: 'con', name: 'Con', role: 'contributor', password: 'password of con' })
  const { job } = await wish('shown', endless)
  const rea = await signIn(served, 'rea', 'password of rea')
  const con = await signIn(served, 'con', 'password of con')
  const ada = await signIn(served, 'ada', 'password of ada')
  const list = (await rea.send('GET', '/work')).answer['jobs'] as { words: string; mayStop: boolean; outcome: string }[]
  expect(list[0]).toMatchObject({ words: 'Doing shown', by: 'Ada Admin', mayStop: false, beganAt: null })
  expect(list.map(({ outcome }) => outcome)).toContain('failed')
  expect((await con.send('GET', '/work')).status).toBe(403)
  expect((await rea.send('DELETE', `/work/${job.id}`)).status).toBe(403)
  // Of what they asked for themselves it is no matter what else they may do.
  await world
    .db('spoor.job')
    .where({ id: job.id })
    .update({ asked_by: (await world.people.byLogin('rea'))!.id })
  const own = (await rea.send('GET', '/work')).answer['jobs'] as { mayStop: boolean }[]
  expect(own[0]).toMatchObject({ mayStop: true })
  expect((await ada.send('DELETE', '/work/99999')).status).toBe(404)
  expect((await ada.send('DELETE', `/work/${job.id}`)).answer).toMatchObject({ stopping: true, mayStop: false })
})

interface Slow {
  name: string
  seconds: number
}
let reached = 0
/** Sleeps in the database, as a query does that looks at very much. */
const slow: Answerer<Slow, { name: string; answered: number }> = {
  name: 'slow',
  words: 'Thinking',
  answer: (db, { name, seconds }, pace) =>
    asOfOneMoment(db, async (trx) => {
      await pace.hold(trx)
      await trx.raw('select pg_sleep(?)', [seconds])
      await pace.goOn(7)
      return { name, answered: ++reached }
    }),
}
const answering = () =>
  new Work({ db: world.db, databaseUrl: world.spoorUrl, log: silentLog, handlers: [new Answering(world.db, [slow])] })
/** As a page does that asks again while it is told to wait. */
async function answerOf(question: Slow): Promise<{ name: string; answered: number }> {
  for (;;)
    try {
      return await answerSoon(world.db, slow, question, world.adminId, 50)
    } catch (error) {
      if ((error as Problem).code !== 'being-read') throw error
      expect((error as Problem).extra).toMatchObject({ progress: { words: 'Thinking', total: null } })
    }
}

it('answers at once what is short, and as one job for all who ask what is long', async () => {
  const work = answering()
  await work.start()
  reached = 0
  expect(await answerOf({ name: 'short', seconds: 0 })).toEqual({ name: 'short', answered: 1 })
  expect(await answerOf({ name: 'short', seconds: 0 })).toEqual({ name: 'short', answered: 2 })
  const long = { name: 'long', seconds: 2 }
  const both = await Promise.all([answerOf(long), answerOf(long)])
  expect(both.map(({ answered }) => answered)).toEqual([3, 3])
  expect(await world.db('spoor.job').where({ kind: 'answering' })).toHaveLength(1)
  // It is there for a while, and gone with whatever is erased.
  expect(await answerOf(long)).toMatchObject({ answered: 3 })
  await world.db.transaction(forgetAnswers)
  expect(await answerOf(long)).toMatchObject({ answered: 4 })
  await work.stop()
})

it('ends what the database does for an answer that nobody waits for any more, and nothing else on its connections', async () => {
  const work = answering()
  await work.start()
  const question = { name: 'stopped', seconds: 60 }
  const told = answerOf(question).catch((error: Problem) => error)
  const asked = () =>
    world.db('spoor.job').where({ kind: 'answering', ended_at: null }).whereNotNull('began_at').first()
  while (!(await asked())) await sleep(50)
  await sleep(200)
  await askToStop(world.db, 'answering', ((await asked()) as JobRow).subject)
  const begunMs = performance.now()
  expect(await told).toMatchObject({ code: 'reading-stopped' })
  expect(performance.now() - begunMs).toBeLessThan(20_000)
  const { rows } = await world.db.raw(
    `select 1 from pg_stat_activity where query like '%pg_sleep%' and state = 'active' and pid <> pg_backend_pid()`,
  )
  expect(rows).toEqual([])
  await work.stop()
})
