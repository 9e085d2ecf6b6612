import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import type { WatchRule } from '@spoor/contract'
import {
  addDays,
  atWallClock,
  matches,
  parseScope,
  wallClock,
  watchBucket,
  watchMoves,
  type ScopedChange,
} from '@spoor/core'
import { Receiver } from '../../demo/src/receiver/receiver.ts'
import { Mailroom } from '../../demo/src/mailroom/mailroom.ts'
import { raiseAlarm } from '../src/alarms/alarms.ts'
import { Mailer } from '../src/mail/mailer.ts'
import {
  changeWatch,
  listFirings,
  makeWatch,
  readTold,
  removeWatch,
  sendAgain,
  setWatchState,
  toldTo,
  tryMessage,
} from '../src/watches/store.ts'
import { keepStories } from '../src/noticing/stories.ts'
import { keepHolidays } from '../src/people/holidays.ts'
import { isInside, post } from '../src/watches/post.ts'
import { addReceiver, endReceiver, listReceivers, renewSecret } from '../src/watches/receivers.ts'
import { Telling } from '../src/watches/telling.ts'
import { tryOnPast } from '../src/watches/trial.ts'
import { Watching } from '../src/watches/watching.ts'
import { drawing } from './drawing.ts'
import { makeWorld, silentLog, track, type World } from './support.ts'

let world: World
let mailroom: Mailroom
let mailer: Mailer
let field: (column: string) => number
let nowMs: number

beforeAll(async () => {
  world = await makeWorld('create table public.post (id int primary key, pay numeric, note text)')
  await track(world, { post: '*' })
  mailroom = new Mailroom()
  mailer = new Mailer((await mailroom.listen(0, 0)).smtp, 'Spoor <spoor@larkmere.example>')
  const rows = await world.db('spoor.field').select<{ id: number; column_name: string }[]>('id', 'column_name')
  field = (column) => rows.find((row) => row.column_name === column)!.id
})
afterAll(async () => {
  mailer.close()
  await mailroom.close()
  await world.close()
})
beforeEach(async () => {
  nowMs = Date.now()
  mailroom.mood = 'takes'
  await world.db('spoor.watch').update({ removed_at: world.db.fn.now() })
  await world.db('spoor.watch_message').delete()
})

const minute = 60_000
const day = 24 * 60 * minute
const rule = (more: Partial<WatchRule> = {}): WatchRule => ({
  scope: '',
  fires: { fires: 'saves', more: 0, within: 'run' },
  speaks: { speaks: 'once' },
  quiet: null,
  zone: 'Europe/London',
  people: [world.adminId],
  mail: [],
  receivers: [],
  ...more,
})
const made = (more: Partial<WatchRule> = {}) => makeWatch(world.db, world.admin, rule(more), { mayMail: true })
const watching = () => new Watching({ db: world.db, log: silentLog, now: () => nowMs })
const look = async () => {
  await world.collect()
  while (await watching().look());
}
const tell = () =>
  new Telling({
    db: world.db,
    log: silentLog,
    mailer,
    vault: world.vault,
    address: 'http://spoor.example',
    now: () => nowMs,
  }).tell()
let id = 0
const write = (statement: string, values: unknown[] = []) => world.business.query(statement, values)
const insert = (pay = 1) => write('insert into post values ($1, $2, $3)', [++id, pay, 'a'])
const fired = async (watchId: number) => (await listFirings(world.db, watchId, undefined)).firings
const refusedScope = (more: Partial<WatchRule>) => expect(made(more)).rejects.toMatchObject({ code: 'rule-broken' })
const typeId = async () => (await world.db('spoor.record_type').first<{ id: number }>('id'))!.id
const state = (watchId: number) =>
  world.db('spoor.watch').where({ id: watchId }).first<{ trouble: string | null; until_save: string }>('*')

/** The whole ledger as core looks at it. */
async function changesThere(): Promise<(ScopedChange & { save: string; run: number | null })[]> {
  const { rows } = await world.db.raw<{ rows: Record<string, never>[] }>(
    `select c.*, s.action, s.channel, s.run_id, s.reason from ledger.change c
       join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at`,
  )
  return rows.map((row) => ({
    save: row['save_id']!,
    run: row['run_id'] === null ? null : Number(row['run_id']),
    actorId: row['actor_id']!,
    actorKind: row['actor_kind']!,
    typeId: row['type_id']!,
    fieldId: row['field_id']!,
    key: row['record_key']!,
    parent: null,
    atMs: Date.parse(row['captured_at']!),
    action: row['action']!,
    restored: false,
    effectiveOn: null,
    channel: row['channel']!,
    runId: Number(row['run_id']),
    transactionOf: [],
    before: row['before']!,
    after: row['after']!,
    isNumber: row['field_id'] !== (field('note') as never),
    reason: row['reason']!,
    states: [],
    stories: [],
    cases: [],
  }))
}

describe('what fires', () => {
  it('is what core finds in the ledger, however it comes in, by whichever of several servers, and what a trial says', async () => {
    const draw = drawing(21)
    const scopes = [
      '',
      `what=f${field('pay')}`,
      `what=!f${field('pay')}`,
      'value=rose.5',
      'value=to.v3',
      'how=delete,create',
    ]
    const spells = ['run', 'hour', 'day'] as const
    // Of these the test has no hand of its own; a trial, which asks the database alone, says what they are.
    const others = [
      'value=has.n1',
      'value=!has.n1',
      'how=restore',
      `holds=f${field('pay')}.then.3&holds=f${field('pay')}.then.7`,
      `holds=!f${field('pay')}.now.3`,
      // At whatever hour this runs.
      `what=f${field('note')}&clock=d1,d2,d3,d4,d5,d6,d7@UTC`,
    ]
    const asTried = []
    for (const scope of others) {
      // What was held is rare.
      const more = scope.startsWith('holds') ? 0 : draw(2)
      const fires = { fires: 'saves' as const, more, within: 'run' as const }
      asTried.push({ scope, fires, watch: await made({ scope, fires, zone: 'Asia/Kolkata' }) })
    }
    const watches = []
    for (const scope of scopes)
      for (const within of spells) {
        const fires = { fires: 'saves' as const, more: draw(4), within }
        watches.push({ scope, fires, watch: await made({ scope, fires, zone: 'Asia/Kolkata' }) })
      }
    const sums = []
    for (const scope of ['', `what=f${field('pay')}`, 'value=rose.5', 'how=change', `what=f${field('note')}`])
      for (const within of spells) {
        const way = watchMoves[draw(3)]!
        const fires = { fires: 'sum' as const, fieldId: field('pay'), way, over: `${draw(30)}.5`, within }
        sums.push({ scope, fires, watch: await made({ scope, fires, zone: 'Asia/Kolkata' }) })
      }
    const [{ from }] = (await world.db('ledger.head').select({ from: 'last_save_id' })) as [{ from: string }]
    for (let round = 0; round < 14; round++) {
      for (let n = 1 + draw(5); n > 0; n--) {
        await write('begin')
        for (let m = 1 + draw(6); m > 0; m--) {
          const which = 1 + draw(9)
          const act = draw(4)
          if (act === 0) await write('delete from post where id = $1', [which])
          else
            await write(
              'insert into post values ($1, $2, $3) on conflict (id) do update set pay = excluded.pay, note = excluded.note',
              [which, draw(20) + Math.max(0, draw(8) - 4) / 4, `n${draw(3)}`],
            )
        }
        await write(draw(6) === 0 ? 'rollback' : 'commit')
      }
      await world.collect()
      // Two that both believe to be the only one.
      await Promise.all([watching().look(), watching().look(), watching().look()])
    }
    id = 10
    const changes = (await changesThere()).filter(({ save }) => BigInt(save) > BigInt(from))
    expect(changes.length).toBeGreaterThan(60)
    let times = 0
    for (const { scope, fires, watch } of watches) {
      const meant = parseScope(new URLSearchParams(scope)).scope
      const buckets = new Map<string, Set<string>>()
      for (const change of changes.filter((one) => matches(meant, one, nowMs))) {
        const bucket = watchBucket(
          fires.within,
          { id: change.save, runId: change.run, atMs: change.atMs },
          'Asia/Kolkata',
        )
        buckets.set(bucket, (buckets.get(bucket) ?? new Set()).add(change.save))
      }
      const wanted = [...buckets].filter(([, saves]) => saves.size > fires.more)
      const rows = await world
        .db('spoor.watch_firing')
        .where({ watch_id: watch.id })
        .whereNotNull('fired_at')
        .select<{ bucket: string; saves: number }[]>('bucket', 'saves')
      const told = new Map(rows.map((row) => [row.bucket, row.saves]))
      expect([scope, fires, told]).toEqual([
        scope,
        fires,
        new Map(wanted.map(([bucket, saves]) => [bucket, saves.size])),
      ])
      const messages = await world.db('spoor.watch_message').where({ watch_id: watch.id }).pluck('firing_id')
      expect(new Set(messages).size).toBe(messages.length)
      expect(messages).toHaveLength(wanted.length)
      const trial = await tryOnPast(world.db, rule({ scope, fires, zone: 'Asia/Kolkata' }), world.admin, Date.now())
      expect(trial.times).toBe(wanted.length)
      times += wanted.length
    }
    expect(times).toBeGreaterThan(40)
    // By hand, in numbers that a double holds exactly: what pay moved by in each bucket.
    let summed = 0
    for (const { scope, fires, watch } of sums) {
      const meant = parseScope(new URLSearchParams(scope)).scope
      const buckets = new Map<string, number>()
      for (const change of changes.filter((one) => one.fieldId === field('pay') && matches(meant, one, nowMs))) {
        if (change.before === null || change.after === null) continue
        const by = Number(change.after) - Number(change.before)
        if ((fires.way === 'rises' && by < 0) || (fires.way === 'falls' && by > 0)) continue
        const save = { id: change.save, runId: change.run, atMs: change.atMs }
        const bucket = watchBucket(fires.within, save, 'Asia/Kolkata')
        buckets.set(bucket, (buckets.get(bucket) ?? 0) + Math.abs(by))
      }
      const wanted = [...buckets].filter(([, total]) => total > Number(fires.over))
      const rows = await world
        .db('spoor.watch_firing')
        .where({ watch_id: watch.id })
        .whereNotNull('fired_at')
        .select<{ bucket: string; total: string }[]>('bucket', 'total')
      expect([scope, fires, new Map(rows.map((row) => [row.bucket, Number(row.total)]))]).toEqual([
        scope,
        fires,
        new Map(wanted),
      ])
      const trial = await tryOnPast(world.db, rule({ scope, fires, zone: 'Asia/Kolkata' }), world.admin, Date.now())
      expect(trial.times).toBe(wanted.length)
      summed += wanted.length
    }
    expect(summed).toBeGreaterThan(10)
    for (const { scope, fires, watch } of asTried) {
      const [row] = await world
        .db('spoor.watch_firing')
        .where({ watch_id: watch.id })
        .whereNotNull('fired_at')
        .count<{ count: string }[]>()
      // What is held by now moves on, so that a trial afterwards is another question.
      if (scope.includes('.now.')) {
        expect(Number(row!.count)).toBeGreaterThan(0)
        continue
      }
      const trial = await tryOnPast(world.db, rule({ scope, fires, zone: 'Asia/Kolkata' }), world.admin, Date.now())
      expect([scope, Number(row!.count)]).toEqual([scope, trial.times])
      expect([scope, trial.times > 0]).toEqual([scope, true])
    }
  }, 120_000)

  it('is a run once, however many saves it has and however it is collected', async () => {
    const { id: watchId } = await made({ mail: ['ann@larkmere.example'] })
    const before = mailroom.mails.length
    await write(`insert into post select n, 1, 'run' from generate_series(1000, 1039) n`)
    await look()
    await tell()
    expect(await fired(watchId)).toMatchObject([
      { saves: 40, words: expect.stringContaining('40 saves of posts') as string },
    ])
    expect(mailroom.mails.slice(before)).toHaveLength(1)
    await write(`delete from post where id >= 1000`)
  })

  it('is what should have come and did not, on its days, once it could have been collected', async () => {
    // Fridays and Saturdays; made on a Thursday.
    nowMs = Date.parse('2031-01-02T12:00:00Z')
    const { id: watchId } = await made({ fires: { fires: 'missing', by: '06:00', days: [5, 6] } })
    await world
      .db('spoor.watch')
      .where({ id: watchId })
      .update({ since: new Date(nowMs).toISOString() })
    const days: string[] = []
    for (let hour = 0; hour < 5 * 24; hour += 1) {
      nowMs += 60 * minute
      await watching().look()
      const all = await fired(watchId)
      if (all.length > days.length) days.push(new Date(nowMs).toISOString())
    }
    expect(days).toEqual(['2031-01-03T07:00:00.000Z', '2031-01-04T07:00:00.000Z'])
    expect((await fired(watchId))[0]!.words).toBe('none by 06:00 on 2031-01-04')
  })

  it('is not missed on a holiday, by a watch that says so; a trial knows them, too', async () => {
    const holidays = [{ day: '2031-01-03', name: 'the day after' }]
    expect(await keepHolidays(world.db, world.adminId, [...holidays, ...holidays])).toEqual(holidays)
    nowMs = Date.parse('2031-01-02T12:00:00Z')
    const on = { fires: 'missing' as const, by: '06:00', days: [4, 5, 6] }
    const [all, working] = [await made({ fires: on }), await made({ fires: { ...on, notHolidays: true } })]
    await world.db('spoor.watch').update({ since: new Date(nowMs).toISOString() })
    for (let hour = 0; hour < 3 * 24; hour += 6) {
      nowMs += 6 * 60 * minute
      await watching().look()
    }
    const told = async (watchId: number) => (await fired(watchId)).map((one) => one.words)
    expect(await told(all.id)).toEqual(['none by 06:00 on 2031-01-04', 'none by 06:00 on 2031-01-03'])
    expect(await told(working.id)).toEqual(['none by 06:00 on 2031-01-04'])
    const tried = async (fires: WatchRule['fires']) =>
      (await tryOnPast(world.db, rule({ fires }), world.admin, nowMs)).strip.map((one) => one.slice(0, 10)).slice(-3)
    expect(await tried(on)).toEqual(['2031-01-02', '2031-01-03', '2031-01-04'])
    expect(await tried({ ...on, notHolidays: true })).toEqual(['2030-12-28', '2031-01-02', '2031-01-04'])
    await keepHolidays(world.db, world.adminId, [])
  })

  it('is an alarm, once, at whatever place and without what a source answered', async () => {
    await raiseAlarm(world.db, { code: 'source-older', sourceId: null, words: 'before the watch' })
    const { id: watchId } = await made({ fires: { fires: 'alarm' }, mail: ['gil@larkmere.example'] })
    const other = await made({ fires: { fires: 'alarm' } })
    await setWatchState(world.db, world.admin, { watchId: other.id, state: 'paused', why: 'away' })
    await raiseAlarm(world.db, { code: 'collecting-failed', sourceId: null, words: 'invalid input: "LM99 secret"' })
    await raiseAlarm(world.db, { code: 'witness-silent', sourceId: null, words: 'witness 4' })
    await Promise.all([watching().look(), watching().look()])
    await watching().look()
    await setWatchState(world.db, world.admin, { watchId: other.id, state: 'on', why: null })
    await watching().look()
    expect(await fired(other.id)).toEqual([])
    expect((await fired(watchId)).map((one) => one.words)).toEqual([
      'alarm: a witness takes no seals',
      'alarm: changes cannot be collected',
    ])
    nowMs = Date.now()
    await tell()
    const mails = mailroom.mails.filter((mail) => mail.to.includes('gil@larkmere.example'))
    expect(mails).toHaveLength(1)
    expect(mails[0]!.text).toContain('http://spoor.example/today#alarms')
    expect(mails[0]!.text).toContain(`Watch ${watchId}: Alarms.`)
    expect(JSON.stringify(mails)).not.toContain('secret')
    const trial = await tryOnPast(world.db, rule({ fires: { fires: 'alarm' } }), world.admin, Date.now())
    expect(trial).toMatchObject({ times: 3, last: [{ said: [{ words: 'alarm: a witness takes no seals' }] }, {}, {}] })
    await refusedScope({ fires: { fires: 'alarm' }, scope: 'what=f1' })
    await world.db('spoor.alarm').delete()
  })

  it('is what stands out in scope, once however it grows, without the figures of its values', async () => {
    await insert(70)
    await world.collect()
    const [inScope, others] = [
      await made({ fires: { fires: 'stands-out' }, scope: `what=t${await typeId()}` }),
      await made({ fires: { fires: 'stands-out' }, scope: `what=!t${await typeId()}` }),
    ]
    await write('update post set pay = 7123 where id = $1', [id])
    await world.collect()
    const [save] = await world
      .db('ledger.save')
      .orderBy('id', 'desc')
      .limit(1)
      .select<{ id: string; captured_at: string }[]>('*')
    const story = (saves: string[]) => ({
      id: 'drawn here',
      reasons: [
        {
          rule: 'far-outside' as const,
          fieldId: field('pay'),
          figures: { value: 7123, least: 1, most: 70, earlier: 9 },
        },
      ],
      saves,
      count: saves.length,
      records: 1,
      fromMs: Date.parse(save!.captured_at),
      toMs: Date.parse(save!.captured_at),
      actors: [],
      types: [],
    })
    await keepStories(world.db, [story([save!.id])])
    await watching().look()
    await keepStories(world.db, [story([save!.id, String(Number(save!.id) - 1)])])
    await watching().look()
    expect(await fired(others.id)).toEqual([])
    const firings = await fired(inScope.id)
    expect(firings).toMatchObject([
      { words: expect.stringMatching(/lies far outside all that it held/) as string, saves: 1 },
    ])
    expect(JSON.stringify(firings)).not.toMatch(/7123|7,123/)
    const trial = await tryOnPast(world.db, rule({ fires: { fires: 'stands-out' } }), world.admin, Date.now())
    expect(trial.times).toBe(1)
    await world.db('spoor.story').delete()
  })

  it('is what Today shows at its time, of the time since it was told, for its owner', async () => {
    const zone = 'Europe/London'
    const { date } = wallClock(Date.now(), zone)
    const at = (days: number) => atWallClock(addDays(date, days), '07:30', zone)
    const { id: watchId } = await made({
      fires: { fires: 'digest', at: '07:30', days: [1, 2, 3, 4, 5, 6, 7] },
      mail: ['hal@larkmere.example'],
    })
    // At whatever hour this runs: from after its turn of this day on.
    await world.db('spoor.watch').update({ since: new Date(at(0) + minute).toISOString() })
    await insert(81237)
    await world.collect()
    await raiseAlarm(world.db, { code: 'witness-silent', sourceId: null, words: 'witness 4' })
    for (const days of [1, 3]) {
      nowMs = at(days) - minute
      await watching().look()
      nowMs = at(days) + minute
      await Promise.all([watching().look(), watching().look()])
    }
    const firings = await fired(watchId)
    expect(firings.map(({ from, to }) => [Date.parse(from), Date.parse(to)])).toEqual([
      [at(2), at(3)],
      [at(1), at(2)],
      [at(1) - day, at(1)],
    ])
    const [first] = firings.slice(-1)
    expect(first!.words).toMatch(/^\d+ saves? by .* changed \d/)
    expect(first!.said.at(-1)).toEqual({ words: '1 alarm to be settled', path: '/today#alarms' })
    await tell()
    const mails = mailroom.mails.filter((mail) => mail.to.includes('hal@larkmere.example'))
    expect(mails[0]!.subject).toMatch(/^Spoor: what Today shows, /)
    expect(mails[0]!.text).toContain(`http://spoor.example${first!.said[0]!.path}`)
    expect(mails[0]!.text).toContain('1 alarm to be settled')
    expect(JSON.stringify(mails)).not.toMatch(/81,?237/)
    const trial = await tryOnPast(
      world.db,
      rule({ fires: { fires: 'digest', at: '07:30', days: [1] } }),
      world.admin,
      Date.now(),
    )
    expect(trial).toMatchObject({ times: 0, now: [{ path: expect.stringMatching(/^\/changes\?when=/) as string }, {}] })
    await refusedScope({ fires: { fires: 'digest', at: '07:30', days: [1] }, scope: 'what=f1' })
    await world.db('spoor.alarm').delete()
  })

  it('is more than is usual for who and what, as the days before have it, once it is that many', async () => {
    const draw = drawing(8)
    // Far from midnight, so that no day ends while this runs.
    const zone = ['UTC', 'Asia/Tokyo'].find((one) => /^(0[3-9]|1\d|20)/.test(wallClock(Date.now(), one).time))!
    const { date } = wallClock(Date.now(), zone)
    await insert()
    await world.collect()
    const row = (await world.db('ledger.save').orderBy('id', 'desc').first<Record<string, unknown>>('*'))!
    // Whoever else worked here at times and not today; and, of the one who does today, what lies long ago, too.
    const [other] = await world
      .db('spoor.actor')
      .insert({ kind: 'person', name: 'Nessa' })
      .returning<{ id: number }[]>('id')
    const before = new Map<number, Map<string, number>>([
      [Number(row['actor_id']), new Map()],
      [other!.id, new Map()],
    ])
    await world.db.raw(
      `select ledger.ensure_month(m::date) from generate_series(now() - interval '8 months', now(), interval '1 month') m`,
    )
    let at = 0
    for (const [actorId, days] of before)
      for (let back = 1; back <= 200; back++) {
        const many = draw(3) === 0 ? draw(9) + (draw(12) === 0 ? 30 : 0) : 0
        const day = addDays(date, -back)
        if (many > 0) days.set(day, many)
        const rows = Array.from({ length: many }, (_, n) => ({
          ...row,
          id: -++at,
          actor_id: actorId,
          captured_at: new Date(atWallClock(day, '09:00', zone) + n * minute).toISOString(),
        }))
        if (many > 0) await world.db('ledger.save').insert(rows)
      }
    /** By hand: one day after the other, from the day itself back. */
    const usualOn = (days: Map<string, number>, day: string): number | null => {
      const found: number[] = []
      for (let back = 1; back <= 84 && found.length < 12; back++) {
        const many = days.get(addDays(day, -back))
        if (many) found.push(many)
      }
      return found.length < 3 ? null : found.reduce((sum, one) => sum + one, 0) / found.length
    }
    const isMany = (many: number, usual: number | null) => usual !== null && many >= 3 * usual && many >= usual + 5
    const fires = { fires: 'unusual' as const }
    // Of this day itself all that these tests saved.
    const [now] = await world.db('ledger.save').where('id', '>', 0).count<{ count: string }[]>('* as count')
    before.get(Number(row['actor_id']))!.set(date, Number(now!.count))
    const wanted = [...before.values()].flatMap((days) =>
      [...days].filter(([day, many]) => isMany(many, usualOn(days, day))).map(([day]) => day),
    )
    expect(wanted.length).toBeGreaterThan(3)
    const trial = await tryOnPast(world.db, rule({ fires, zone }), world.admin, Date.now())
    expect(trial.times).toBe(wanted.length)
    expect(trial.strip.map((one) => wallClock(Date.parse(one), zone).date)).toEqual([...new Set(wanted)].sort())

    const own = before.get(Number(row['actor_id']))!
    const usual = usualOn(own, date)!
    const enough = Math.ceil(Math.max(3 * usual, usual + 5))
    const [all, narrow] = [await made({ fires, zone }), await made({ fires, zone, scope: 'how=delete' })]
    for (let many = 1; many <= enough + 2; many++) {
      await insert()
      await look()
      expect([many, (await fired(all.id)).length]).toEqual([many, many >= enough ? 1 : 0])
    }
    expect(await fired(narrow.id)).toEqual([])
    expect((await fired(all.id))[0]!.words).toContain(`where about ${Math.round(usual)} in a day are usual`)
  })

  it('is nothing that was there before, nor what came while it was paused; muted it fires and tells nobody', async () => {
    await insert()
    await world.collect()
    const { id: watchId } = await made()
    await look()
    expect(await fired(watchId)).toEqual([])
    await setWatchState(world.db, world.admin, { watchId, state: 'paused', why: 'a move of house' })
    await insert()
    await look()
    await setWatchState(world.db, world.admin, { watchId, state: 'muted', why: 'the move goes on' })
    await look()
    expect(await fired(watchId)).toEqual([])
    await write(`begin; set local application_name = 'other'; insert into post values (${++id}, 3, 'm'); commit`)
    await look()
    expect(await fired(watchId)).toMatchObject([{ messages: [] }])
  })

  it('stops where its owner left, and says so; another watch goes on', async () => {
    const [left] = await world
      .db('spoor.person')
      .insert({ login: 'rory', name: 'Rory', role: 'reviewer', password_hash: 'x' })
      .returning<{ id: number }[]>('id')
    const theirs = await made()
    const mine = await made()
    await world.db('spoor.watch').where({ id: theirs.id }).update({ owner_id: left!.id })
    await world.db('spoor.person').where({ id: left!.id }).update({ disabled_at: world.db.fn.now() })
    await insert()
    await look()
    expect((await state(theirs.id))!.trouble).toMatch(/may not sign in any more/)
    expect(await fired(theirs.id)).toEqual([])
    expect(await fired(mine.id)).toHaveLength(1)
  })
})

describe('what is told', () => {
  const sentTo = (to: string) => mailroom.mails.filter((mail) => mail.to.includes(to))

  it('is in Spoor and by mail, with a way to the save and without a value; read once it is read', async () => {
    const { id: watchId } = await made({ mail: ['bo@larkmere.example'] })
    await write(`insert into post values ($1, 77123, '<b>=cmd</b>')`, [++id])
    await look()
    await tell()
    const { told, count } = await toldTo(world.db, world.adminId)
    expect(count).toBe(1)
    expect(told[0]).toMatchObject({
      watchId,
      saves: 1,
      words: expect.stringContaining(`post ${id}: created`) as string,
    })
    const [mail] = sentTo('bo@larkmere.example')
    expect(mail!.text).toContain(`http://spoor.example/changes?save=${told[0]!.saveId}`)
    expect(mail!.text).toContain(`To set it back: http://spoor.example/changes?how=x${told[0]!.saveId}&act=set-back`)
    expect(mail!.headers['list-unsubscribe']).toBe(`<http://spoor.example/watches?watch=${watchId}>`)
    expect(`${mail!.text}${mail!.html ?? ''}${mail!.subject}`).not.toMatch(/77123|cmd/)
    await tell()
    expect(sentTo('bo@larkmere.example')).toHaveLength(1)
    expect(await readTold(world.db, world.adminId, [told[0]!.id])).toBe(1)
    expect((await toldTo(world.db, world.adminId)).count).toBe(0)
    expect((await fired(watchId))[0]!.messages.map((one) => [one.way, one.state, one.readAt !== null])).toEqual([
      ['spoor', 'sent', true],
      ['mail', 'sent', false],
    ])
  })

  it('is tried again with growing waits under one identity when it is not taken, and given up when refused', async () => {
    const { id: watchId } = await made({ mail: ['cy@larkmere.example'] })
    await insert()
    await look()
    mailroom.mood = 'later'
    const mail = async () => (await fired(watchId))[0]!.messages.find((one) => one.way === 'mail')!
    for (let tries = 1; tries <= 4; tries++) {
      await tell()
      expect(await mail()).toMatchObject({
        state: 'waiting',
        tries,
        trouble: expect.stringContaining('Try again later') as string,
      })
      expect(Date.parse((await mail()).dueAt) - nowMs).toBe(minute * 2 ** (tries - 1))
      await tell()
      expect((await mail()).tries).toBe(tries)
      nowMs = Date.parse((await mail()).dueAt)
    }
    mailroom.mood = 'takes'
    await tell()
    expect(await mail()).toMatchObject({ state: 'sent', tries: 5, trouble: null })
    expect(sentTo('cy@larkmere.example')).toHaveLength(1)

    mailroom.mood = 'refuses'
    await write(`update post set note = 'of another run' where id = ${id}`)
    await look()
    await tell()
    expect(await mail()).toMatchObject({
      state: 'given up',
      trouble: expect.stringContaining('Nobody of that name') as string,
    })

    mailroom.mood = 'later'
    const other = await made({ mail: ['di@larkmere.example'] })
    await write(`begin; set local application_name = 'last'; insert into post values (${++id}, 3, 'm'); commit`)
    await look()
    nowMs += 3 * day + minute
    await tell()
    expect((await fired(other.id))[0]!.messages.at(-1)).toMatchObject({ state: 'given up', tries: 1 })
  })

  it('is kept until its time and sent together', async () => {
    nowMs = Date.parse('2031-03-03T20:00:00Z')
    const { id: watchId } = await made({
      mail: ['ed@larkmere.example'],
      speaks: { speaks: 'daily', at: '07:30' },
      fires: { fires: 'saves', more: 0, within: 'run' },
    })
    for (const name of ['one', 'two', 'three']) {
      await write(
        `begin; set local application_name = '${name}'; update post set pay = pay + 1 where id = ${id}; commit`,
      )
      await look()
    }
    const firings = await fired(watchId)
    await tell()
    expect(sentTo('ed@larkmere.example')).toEqual([])
    nowMs = Date.parse('2031-03-04T07:30:00Z')
    await tell()
    expect(sentTo('ed@larkmere.example')).toHaveLength(1)
    expect(sentTo('ed@larkmere.example')[0]!.text.match(/^http\S+changes\?/gm)).toHaveLength(firings.length)
  })

  it('is posted to a program, signed, under one identity and in order, and never where it may not go', async () => {
    const receiver = new Receiver()
    const { hook } = await receiver.listen(0)
    const deps = { db: world.db, vault: world.vault }
    try {
      const inside = await addReceiver(
        deps,
        { name: 'ledger room', url: `${hook}?key=s3cret`, inside: true },
        world.adminId,
      )
      const outside = await addReceiver(deps, { name: 'elsewhere', url: hook, inside: false }, world.adminId)
      const named = new URL(hook)
      named.hostname = 'localhost'
      const byName = await addReceiver(deps, { name: 'by name', url: named.href, inside: false }, world.adminId)
      expect(inside.receiver.place).toBe(hook)
      await expect(
        addReceiver(deps, { name: 'Ledger Room', url: hook, inside: true }, world.adminId),
      ).rejects.toMatchObject({ code: 'name-taken' })
      receiver.secret = inside.secret
      const { id: watchId } = await made({
        people: [],
        receivers: [inside.receiver.id, outside.receiver.id, byName.receiver.id],
      })
      await write(`insert into post values ($1, 88321, 'hush')`, [++id])
      await look()
      const messages = async () => (await fired(watchId))[0]!.messages
      for (const mood of ['fails', 'elsewhere', 'endless'] as const) {
        receiver.mood = mood
        await tell()
        nowMs += 60 * minute
        expect((await messages())[0]).toMatchObject({
          to: 'ledger room',
          state: 'waiting',
          trouble: expect.stringMatching(/^it answered (503|307|500)$/) as string,
        })
      }
      // Two secrets sign for a while after a new one was given.
      const renewed = await renewSecret(deps, inside.receiver.id, world.adminId)
      receiver.mood = 'takes'
      // What signs a message has its time in it.
      nowMs = Date.now()
      await world.db('spoor.watch_message').update({ due_at: new Date(nowMs).toISOString() })
      await tell()
      expect((await messages())[0]).toMatchObject({ state: 'sent', tries: 4 })
      expect(receiver.messages).toHaveLength(1)
      expect(receiver.messages[0]).toMatchObject({ signed: true })
      const event = JSON.parse(receiver.messages[0]!.body) as Record<string, never>
      expect(event).toMatchObject({
        specversion: '1.0',
        type: 'spoor.watch.fired',
        id: receiver.messages[0]!.id,
        data: { saves: 1 },
      })
      expect(receiver.messages[0]!.body).not.toMatch(/88321|hush|s3cret/)
      receiver.secret = renewed.secret
      await write(`update post set note = 'again' where id = $1`, [id])
      await look()
      await tell()
      expect(receiver.messages.map((one) => one.signed)).toEqual([true, true])
      // An address within the own network, said as a number or by a name that leads there, is not gone to unless it was allowed.
      expect((await messages()).slice(1)).toMatchObject([
        { to: 'elsewhere', state: 'waiting', trouble: expect.stringContaining('within the own network') as string },
        { to: 'by name', state: 'waiting', trouble: expect.stringContaining('within the own network') as string },
      ])
      receiver.secret = outside.secret
      await write(`update post set pay = 0, note = 'third' where id = $1`, [id])
      await look()
      await tell()
      expect((await messages())[0]).toMatchObject({ state: 'waiting', trouble: 'it answered 401' })
      await endReceiver(world.db, inside.receiver.id, world.adminId)
      expect((await messages())[0]).toMatchObject({ state: 'given up' })
      expect(JSON.stringify(await listReceivers(world.db))).not.toMatch(/s3cret|whsec/)
    } finally {
      await receiver.close()
    }
  }, 60_000)

  it('is tried with a message that says that nothing happened, and sent again when it was given up', async () => {
    const { id: watchId } = await made({ mail: ['fay@larkmere.example'], quiet: { from: '00:00', to: '23:59' } })
    mailroom.mood = 'refuses'
    await tryMessage(world.db, world.admin, watchId)
    nowMs = Date.now()
    await tell()
    const mail = async () => (await fired(watchId))[0]!.messages.find((one) => one.way === 'mail')!
    expect(await mail()).toMatchObject({ state: 'given up' })
    mailroom.mood = 'takes'
    const again = { watchId, messageId: String((await mail()).id) }
    expect(await sendAgain(world.db, world.admin, again)).toMatchObject({ fired: 0, strip: [], givenUp: 0, waiting: 1 })
    nowMs = Date.now()
    await tell()
    expect(await mail()).toMatchObject({ state: 'sent' })
    expect(sentTo('fay@larkmere.example')[0]!.subject).toBe('Spoor: a trial: nothing happened')
    await expect(sendAgain(world.db, world.admin, again)).rejects.toMatchObject({ code: 'not-found' })
  })

  it('waits for no answer for ever', async () => {
    const receiver = new Receiver()
    receiver.mood = 'hangs'
    const { hook } = await receiver.listen(0)
    await expect(post(hook, { headers: {}, body: '{}', inside: true, waitMs: 200 })).rejects.toThrow('did not answer')
    await receiver.close()
  })

  it('tells addresses of the own network from others', () => {
    for (const own of [
      '127.0.0.1',
      '10.1.2.3',
      '172.31.0.1',
      '192.168.9.9',
      '169.254.169.254',
      '::1',
      'fd00::1',
      'fe80::1',
      '::ffff:10.0.0.1',
      '64:ff9b::a00:1',
      '0.0.0.0',
      '100.64.0.1',
      'no address',
    ])
      expect([own, isInside(own)]).toEqual([own, true])
    for (const other of ['8.8.8.8', '172.32.0.1', '193.168.0.1', '2606:4700::1111', '100.128.0.1', '::ffff:8.8.8.8'])
      expect([other, isInside(other)]).toEqual([other, false])
  })

  it('refuses what it cannot keep', async () => {
    const refused = (more: Partial<WatchRule>, mayMail = true) =>
      expect(makeWatch(world.db, world.admin, rule(more), { mayMail })).rejects
    await refused({ people: [] }).toMatchObject({ code: 'rule-broken' })
    await refused({ people: [999] }).toMatchObject({ code: 'rule-broken' })
    await refused({ mail: ['a@b.example'] }, false).toMatchObject({ code: 'rule-broken' })
    await refused({ scope: 'when=last7d@UTC' }).toMatchObject({ code: 'rule-broken' })
    await refused({ scope: 'state=reviewed' }).toMatchObject({ code: 'rule-broken' })
    const sum = { fires: 'sum' as const, way: 'moves' as const, over: '5', within: 'run' as const }
    await refused({ fires: { ...sum, fieldId: field('note') } }).toMatchObject({ code: 'rule-broken' })
    await refused({ fires: { ...sum, fieldId: 99999 } }).toMatchObject({ code: 'rule-broken' })
    await refused({ scope: 'nonsense=1' }).toMatchObject({ code: 'bad-scope' })
    const { id: watchId } = await made()
    const other = { ...world.admin, id: 999, permissions: [] }
    await expect(changeWatch(world.db, other, { watchId, rule: rule(), mayMail: true })).rejects.toMatchObject({
      code: 'not-allowed',
    })
    await removeWatch(world.db, world.admin, watchId)
    await expect(listFirings(world.db, watchId, undefined)).rejects.toMatchObject({ code: 'not-found' })
  })
})
