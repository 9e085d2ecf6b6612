import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { permissionsOf } from '@spoor/contract'
import { addDays, nextMaking, type Rhythm } from '@spoor/core'
import { Mailroom } from '../../demo/src/mailroom/mailroom.ts'
import { OutsideSeals } from '../src/custody/outside.ts'
import { Sealer } from '../src/custody/sealer.ts'
import { SigningKey } from '../src/custody/signing-key.ts'
import type { SignedIn } from '../src/http/bind.ts'
import { Mailer } from '../src/mail/mailer.ts'
import { handed } from '../src/packs/links.ts'
import { Packing } from '../src/packs/packing.ts'
import { PackPost } from '../src/packs/post.ts'
import { endRegularPack, listRegularPacks, makeRegularPack, type RegularBody } from '../src/packs/regular.ts'
import { askForPack, listPacks, mailPack, readPack } from '../src/packs/store.ts'
import { removeWithdrawn, withdrawPack } from '../src/packs/withdraw.ts'
import { makeWorld, silentLog, track, workOnce, type World } from './support.ts'

let world: World
let directory: string
let mailroom: Mailroom
let mailer: Mailer
let sealer: Sealer
let key: SigningKey
let nowMs = Date.now()
const minute = 60_000
const day = 24 * 60 * minute

beforeAll(async () => {
  world = await makeWorld('create table public.post (id int primary key, pay numeric)')
  await track(world, { post: '*' })
  directory = mkdtempSync(join(tmpdir(), 'spoor-regular-'))
  key = SigningKey.open(directory)
  sealer = new Sealer({ db: world.db, key, outside: new OutsideSeals(directory), log: silentLog })
  mailroom = new Mailroom()
  mailer = new Mailer((await mailroom.listen(0, 0)).smtp, 'Spoor <spoor@larkmere.example>')
  await world.business.query('insert into post select n, 77123 from generate_series(1, 5) n')
  await world.collect()
  await sealer.seal()
})
afterAll(async () => {
  mailer.close()
  await mailroom.close()
  await world.close()
  rmSync(directory, { recursive: true })
})

const monthly: Rhythm = { each: 'month', on: 1, at: '06:00', workingDay: false }
const wish = (more: Partial<RegularBody> = {}): RegularBody => ({
  title: 'Rents of the month',
  why: 'the board asks for it',
  scope: 'how=create',
  zone: 'Europe/London',
  columns: ['time', 'who', 'record', 'field', 'before', 'after'],
  shown: ['csv'],
  said: false,
  stamped: false,
  blacked: [],
  rhythm: monthly,
  mail: [],
  ...more,
})
const make = async (more: Partial<RegularBody> = {}, person = world.admin) =>
  (await makeRegularPack(world.db, wish(more), person, { mayMail: true })).at(-1)!
const post = () =>
  new PackPost({ db: world.db, log: silentLog, mailer, address: 'http://spoor.example', now: () => nowMs }).look()
const work = () => workOnce(world, new Packing({ db: world.db, directory, authority: null, key, sealWithinMs: 0 }))
const packsOf = async (regularId: number) =>
  (await listPacks(world.db, world.admin)).packs.filter((pack) => pack.regularId === regularId).reverse()
const next = () => nextMaking(monthly, { nowMs: Date.now(), zone: 'Europe/London', holidays: new Set() })
const sentTo = (to: string) => mailroom.mails.filter((mail) => mail.to.includes(to))

it('is made once each turn, of the time before it, whatever the number of servers, and sent once it is there', async () => {
  nowMs = Date.now()
  const regular = await make({ mail: ['board@larkmere.example', 'board@larkmere.example'] })
  expect(regular).toMatchObject({ made: 0, lastPackId: null, nextAt: new Date(next().atMs).toISOString() })
  nowMs = next().atMs - minute
  await post()
  expect(await packsOf(regular.id)).toEqual([])
  nowMs += 2 * minute
  await Promise.all([post(), post(), post()])
  await post()
  const { from, to } = next()
  const [asked, ...more] = await packsOf(regular.id)
  expect(more).toEqual([])
  expect(asked).toMatchObject({
    state: 'going',
    title: `Rents of the month, ${from} to ${to}`,
    madeBy: world.admin.name,
  })
  expect(sentTo('board@larkmere.example')).toEqual([])
  await work()
  await post()
  await post()
  const [pack] = await packsOf(regular.id)
  expect(pack).toMatchObject({ state: 'kept', cover: { holds: { saves: 5 } }, mails: [{ state: 'sent', tries: 1 }] })
  const [mail, ...others] = sentTo('board@larkmere.example')
  expect(others).toEqual([])
  expect(mail!.text).toContain(pack!.digest!)
  expect(mail!.text).not.toMatch(/77,?123/)
  const token = /http:\/\/spoor\.example\/handed\/(\S+)/.exec(mail!.text)![1]!
  expect(await handed(world.db, token)).toMatchObject({ pack_id: pack!.id, left: 5 })

  // Away for two turns and a half: each of them is made, and no day is left out.
  nowMs += 75 * day
  await post()
  const all = await packsOf(regular.id)
  expect(all).toHaveLength(3)
  const spells = all.map(({ title }) => / (\S+) to (\S+)$/.exec(title)!.slice(1))
  for (const [at, [begin]] of spells.slice(1).entries()) expect(begin).toBe(addDays(spells[at]![1]!, 1))
  expect(await listRegularPacks(world.db, world.admin)).toMatchObject([{ made: 3, lastPackId: all.at(-1)!.id }])

  await endRegularPack(world.db, world.admin, regular.id)
  nowMs += 60 * day
  await post()
  expect(await packsOf(regular.id)).toHaveLength(3)
  expect(await listRegularPacks(world.db, world.admin)).toEqual([])
  await work()
})

it('has each try of a mail lead somewhere of its own, and nowhere when it was not taken', async () => {
  nowMs = Date.now()
  const { id } = await askForPack(world.db, wish(), world.admin)
  await mailPack(world.db, id, { to: ['ann@larkmere.example'], days: 3, most: 2 }, world.admin)
  await post()
  const pack = () => readPack(world.db, world.admin, id)
  expect((await pack()).mails).toMatchObject([{ state: 'waiting', tries: 0 }])
  await work()
  mailroom.mood = 'later'
  nowMs = Date.now()
  await post()
  await post()
  expect((await pack()).mails).toMatchObject([{ state: 'waiting', tries: 1 }])
  nowMs += 2 * minute
  await post()
  mailroom.mood = 'takes'
  nowMs += 5 * minute
  await post()
  expect((await pack()).mails).toMatchObject([{ state: 'sent', tries: 3, trouble: null }])
  expect((await pack()).links.map((one) => one.open)).toEqual([true, false, false])
  expect(sentTo('ann@larkmere.example')).toHaveLength(1)

  mailroom.mood = 'refuses'
  await mailPack(world.db, id, { to: ['bo@larkmere.example'], days: 3, most: 2 }, world.admin)
  nowMs = Date.now()
  await post()
  expect((await pack()).mails[0]).toMatchObject({ state: 'given up' })
  mailroom.mood = 'takes'

  const other = await askForPack(world.db, wish(), world.admin)
  await work()
  await mailPack(world.db, other.id, { to: ['cy@larkmere.example'], days: 3, most: 2 }, world.admin)
  await world.db.transaction((trx) => withdrawPack(trx, other.id, { personId: world.adminId, why: 'a mistake' }))
  await removeWithdrawn(world.db, directory)
  nowMs = Date.now()
  await post()
  expect((await readPack(world.db, world.admin, other.id)).mails).toMatchObject([{ state: 'given up' }])
  expect(sentTo('cy@larkmere.example')).toEqual([])
})

it('stops where its owner may not make it any more, and says so, and goes on when they may', async () => {
  const [row] = await world
    .db('spoor.person')
    .insert({ login: 'rory', name: 'Rory', role: 'auditor', password_hash: 'x', reach: 'how=create' })
    .returning<{ id: number }[]>('id')
  const auditor: SignedIn = {
    ...world.admin,
    id: row!.id,
    name: 'Rory',
    role: 'auditor',
    permissions: permissionsOf('auditor'),
    reach: 'how=create',
  }
  const theirs = await make({}, auditor)
  const mine = await make()
  expect((await listRegularPacks(world.db, auditor)).map((one) => one.id)).toEqual([theirs.id])
  await expect(make({ mail: ['x@larkmere.example'] }, auditor)).rejects.toMatchObject({ code: 'not-allowed' })
  await expect(endRegularPack(world.db, auditor, mine.id)).rejects.toMatchObject({ code: 'not-found' })
  await world.db('spoor.person').where({ id: auditor.id }).update({ disabled_at: world.db.fn.now() })
  nowMs = next().atMs + minute
  await post()
  const trouble = async () =>
    (await listRegularPacks(world.db, world.admin)).find((one) => one.id === theirs.id)!.trouble
  expect(await trouble()).toMatch(/may make no packs any more/)
  expect([(await packsOf(theirs.id)).length, (await packsOf(mine.id)).length]).toEqual([0, 1])
  await world.db('spoor.person').where({ id: auditor.id }).update({ disabled_at: null })
  await post()
  expect(await trouble()).toBeNull()
  expect(await packsOf(theirs.id)).toHaveLength(1)
  await work()
})

it('refuses what it cannot keep', async () => {
  await expect(make({ scope: 'when=last7d@UTC' })).rejects.toMatchObject({ code: 'rule-broken' })
  await expect(make({ scope: 'nonsense=1' })).rejects.toMatchObject({ code: 'bad-scope' })
  await expect(
    makeRegularPack(world.db, wish({ mail: ['a@b.example'] }), world.admin, { mayMail: false }),
  ).rejects.toMatchObject({ code: 'rule-broken' })
})
