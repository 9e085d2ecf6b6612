import { randomBytes } from 'node:crypto'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { scopeEntries, type Scope } from '@spoor/core'
import type { Summary, Today } from '@spoor/contract'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { serve, Visitor, type Served } from './browser.ts'
import { withActorContext } from './context.ts'
import { makeWorld, track, type World } from './support.ts'

/**
 * Every word in this world is a token that stands in one place only. Every route is asked, by people with every kind of
 * reach, for everything that exists; what comes back may hold no token that the reach, worked out here by hand from the
 * ledger's rows, does not give.
 */
let world: World
let served: Served
let address: string

const tokens = new Set<string>()
function token(): string {
  const one = `q${randomBytes(5).toString('hex')}z`
  tokens.add(one)
  return one
}

const anyToken = /q[0-9a-f]{10}z/g

interface ChangeSeen {
  saveId: string
  fieldId: number
  typeId: number
  key: string
  at: string
  actorId: number
  channel: string
  reason: string
  before: string | null
  after: string | null
  /** What is told with the save. */
  told: string
}

let changes: ChangeSeen[]
const [nameless, secretField] = [`f${token()}`, `f${token()}`]
const tables = { item: `t${token()}`, thing: `t${token()}` }
let ids: { item: number; thing: number; name: number; secret: number; amount: number; title: number }
const actors: Record<'ann' | 'ben' | 'cat', string> = { ann: token(), ben: token(), cat: token() }
const actorIds: Record<string, number> = {}

const written = (actor: keyof typeof actors, statement: string) =>
  withActorContext(
    world.business,
    { actor: actors[actor], reason: token(), run: token(), channel: token(), onBehalfOf: token() },
    statement,
  )

beforeAll(async () => {
  world = await makeWorld(`
    create table public.${tables.item} (id int primary key, ${nameless} text, ${secretField} text, amount int, day date);
    create table public.${tables.thing} (id int primary key, title text, item_id int references public.${tables.item})`)
  await track(world, { [tables.item]: '*', [tables.thing]: '*' })
  const hands = ['ann', 'ben', 'cat'] as const
  for (const [at, actor] of hands.entries()) {
    await written(
      actor,
      `insert into ${tables.item} values (${at}, '${token()}', '${token()}', ${at}, '2031-0${at + 1}-11')`,
    )
    await written(actor, `insert into ${tables.thing} values (${at}, '${token()}', ${at})`)
  }
  for (let round = 0; round < 3; round++)
    for (const [at, actor] of hands.entries()) {
      const other = (at + round) % 3
      await written(actor, `update ${tables.item} set ${nameless} = '${token()}' where id = ${other}`)
      await written(
        actor,
        `update ${tables.item} set ${secretField} = '${token()}', amount = amount + 7 where id = ${other}`,
      )
      await written(actor, `update ${tables.thing} set title = '${token()}' where id = ${other}`)
    }
  await written('cat', `update ${tables.item} set day = '2032-05-05' where id = 0`)
  await written('cat', `delete from ${tables.thing} where id = 1`)
  await world.collect()
  await whatPeopleSay()
  await readAll()
  served = await serve(world)
  address = served.base.replace(/\/api\/v1$/, '')
}, 120_000)
afterAll(async () => {
  await served.close()
  await world.close()
})

/** Notes, questions, stories, scopes, gaps, corrections: none of it is for somebody with a limited reach. */
async function whatPeopleSay(): Promise<void> {
  const { db, adminId, sourceId } = world
  const first = (await db('ledger.save').orderBy('id').first<{ id: string }>('id')).id
  const type = await db('spoor.record_type').orderBy('id').first<{ id: number }>('id')
  const everySave = await db('ledger.save').orderBy('id').pluck<string[]>('id')
  await db('spoor.note').insert(everySave.map((save_id) => ({ save_id, text: token(), by: adminId })))
  await db('spoor.mark').insert(everySave.map((save_id) => ({ save_id, mark: 'flagged', by: adminId })))
  await db('spoor.named_scope').insert({ name: token(), scope: `reason=~${token()}`, owner: adminId, shared: true })
  await db('spoor.story').insert({
    story: token(),
    reasons: JSON.stringify([{ rule: 'blank', fieldId: null, figures: {}, words: token() }]),
    saves: 1,
    records: 1,
    from_at: '2020-01-01',
    to_at: '2040-01-01',
    actors: [1],
    types: [type.id],
    settled_why: token(),
    settled_by: adminId,
    settled_at: '2026-01-01',
  })
  await db('spoor.story_save').insert(everySave.map((save_id) => ({ story_id: 1, save_id })))
  const [assignment] = await db('spoor.assignment')
    .insert({ assigned_to: adminId, note: token(), by: adminId })
    .returning<{ id: number }[]>('id')
  await db('spoor.assignment_save').insert(everySave.map((save_id) => ({ assignment_id: assignment!.id, save_id })))
  const cat = await db('spoor.actor').where({ name: actors.cat }).first<{ id: number }>('id')
  await db('spoor.question').insert({ actor_id: cat.id, text: token(), by: adminId })
  await db('spoor.alarm').insert({ source_id: sourceId, code: 'capture-altered', place: token(), words: token() })
  await db('ledger.event').insert({ kind: 'review', outcome: 'done', person_id: adminId, words: token() })
  await db('spoor.source').update({ name: token() })
  await db('spoor.person').insert({ login: token(), name: token(), role: 'reviewer', password_hash: 'x' })
  const fields = await db('spoor.field').select<{ id: number }[]>('id')
  for (const { id } of fields) {
    await db('spoor.coverage').where({ field_id: id }).update({ from_at: '2026-02-01' })
    await db('spoor.coverage').insert({
      field_id: id,
      keep: 'values',
      from_at: '2025-01-01',
      to_at: '2026-01-01',
      ended_because: token(),
    })
  }
  const day = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where({ 't.table_name': tables.item, 'f.column_name': 'day' })
    .first<{ id: number; type_id: number }>('f.id', 'f.type_id')
  await db('spoor.record_type').where({ id: day.type_id }).update({ effective_field_id: day.id })
  await db('spoor.erasure').insert({
    save_id: first,
    type_id: type.id,
    record_key: '["0"]',
    label: token(),
    field_id: fields[0]!.id,
    reach: 'change',
    reason: token(),
    asked_by: adminId,
  })
}

async function readAll(): Promise<void> {
  const { rows } = await world.db.raw<{ rows: ChangeSeen[] }>(
    `select s.id as "saveId", c.field_id as "fieldId", s.type_id as "typeId", s.record_key as key, s.captured_at as at, s.actor_id as "actorId", s.channel, s.reason,
            c.before, c.after, concat_ws(' ', s.label, s.channel, s.reason, s.run, s.on_behalf_of, a.name, t.name, t.plural, t.table_name, f.name,
              (select string_agg(v.ended_because, ' ') from spoor.coverage v where v.field_id = f.id)) as told
       from ledger.save s join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at join spoor.actor a on a.id = s.actor_id
       join spoor.field f on f.id = c.field_id join spoor.record_type t on t.id = s.type_id order by s.id, c.field_id`,
  )
  changes = rows
  for (const actor of await world.db('spoor.actor').select<{ id: number; name: string }[]>('id', 'name'))
    actorIds[actor.name] = actor.id
  const fields = await world
    .db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .select<{ id: number; type: number; table: string; column: string }[]>(
      'f.id',
      't.id as type',
      't.table_name as table',
      'f.column_name as column',
    )
  const field = (table: string, column: string) => fields.find((one) => one.table === table && one.column === column)!
  ids = {
    item: field(tables.item, 'amount').type,
    thing: field(tables.thing, 'title').type,
    name: field(tables.item, nameless).id,
    secret: field(tables.item, secretField).id,
    amount: field(tables.item, 'amount').id,
    title: field(tables.thing, 'title').id,
  }
}

interface Reach {
  scope: Scope
  has(change: ChangeSeen): boolean
}

const what = (types: number[], fields: number[], exclude = false): Scope => ({
  what: { part: 'what', exclude, types, fields },
})

/** Reaches of auditors, each with what it gives, said a second time. */
const reaches: Readonly<Record<string, () => Reach>> = {
  'one actor': () => ({
    scope: { who: { part: 'who', exclude: false, actors: [actorIds[actors.ann]!], kinds: [] } },
    has: (one) => one.actorId === actorIds[actors.ann],
  }),
  'all but one actor': () => ({
    scope: { who: { part: 'who', exclude: true, actors: [actorIds[actors.ann]!], kinds: [] } },
    has: (one) => one.actorId !== actorIds[actors.ann],
  }),
  'one field': () => ({ scope: what([], [ids.amount]), has: (one) => one.fieldId === ids.amount }),
  'one type': () => ({ scope: what([ids.thing], []), has: (one) => one.typeId === ids.thing }),
  'all but a field': () => ({ scope: what([], [ids.secret], true), has: (one) => one.fieldId !== ids.secret }),
  'one record': () => ({
    scope: { record: { part: 'record', exclude: false, lines: false, records: [{ typeId: ids.item, key: '["1"]' }] } },
    has: (one) => one.typeId === ids.item && one.key === '["1"]',
  }),
  'a spell': () => {
    const [from, to] = [changes[10]!.at, changes[20]!.at]
    const minute = (text: string) => `${text.slice(0, 16)}Z`
    return {
      scope: {
        when: {
          part: 'when',
          exclude: false,
          effective: false,
          span: { span: 'instants', from: minute(from), to: minute(to), zone: 'UTC' },
        },
      },
      has: (one) => one.at >= minute(from) && one.at < minute(to),
    }
  },
  'a reason': () => ({
    scope: { reason: { part: 'reason', exclude: false, contains: changes[12]!.reason } },
    has: (one) => one.reason === changes[12]!.reason,
  }),
  'a value': () => ({
    scope: {
      value: {
        part: 'value',
        exclude: false,
        tests: [{ test: 'to', value: changes.find((one) => one.fieldId === ids.secret)!.after }],
      },
    },
    has: (one) => one.after === changes.find((other) => other.fieldId === ids.secret)!.after,
  }),
  'a channel': () => ({
    scope: { how: { part: 'how', exclude: false, actions: [], channels: [changes[4]!.channel], runs: [] } },
    has: (one) => one.channel === changes[4]!.channel,
  }),
  'what a record held': () => {
    const one = changes.find((other) => other.fieldId === ids.title && other.before !== null && other.after !== null)!
    const latest = (at: ChangeSeen) =>
      changes.findLast(
        (other) => other.fieldId === ids.title && other.key === at.key && Number(other.saveId) <= Number(at.saveId),
      )
    return {
      scope: {
        holds: { part: 'holds', exclude: false, tests: [{ fieldId: ids.title, now: false, values: [one.after] }] },
      },
      has: (at) => at.typeId === ids.thing && [latest(at)?.after ?? latest(at)?.before].includes(one.after),
    }
  },
  'an actor and a field': () => ({
    scope: {
      who: { part: 'who', exclude: false, actors: [actorIds[actors.ben]!], kinds: [] },
      ...what([], [ids.name]),
    },
    has: (one) => one.actorId === actorIds[actors.ben] && one.fieldId === ids.name,
  }),
  nothing: () => ({ scope: { who: { part: 'who', exclude: false, actors: [0], kinds: [] } }, has: () => false }),
}

const text = (scope: Scope) => new URLSearchParams(scopeEntries(scope)).toString()

let people = 0
async function visit(role: 'auditor' | 'contributor', scope: Scope): Promise<Visitor> {
  const login = `visitor${++people}`
  await world.people.add({
    login,
    name: login,
    role,
    password: `password of ${login}`,
    ...(role === 'contributor' ? { actorName: actors.cat } : {}),
  })
  await world
    .db('spoor.person')
    .where({ login })
    .update({ reach: role === 'auditor' ? text(scope) : null })
  const visitor = await new Visitor(address).arrive()
  expect((await visitor.signIn(login)).status).toBe(200)
  return visitor
}

/** Scopes that name everything there is. */
function everyScope(): Scope[] {
  const distinct = <T>(of: (one: ChangeSeen) => T) => [...new Set(changes.map(of))]
  const records = [
    ...new Map(changes.map((one) => [`${one.typeId} ${one.key}`, { typeId: one.typeId, key: one.key }])).values(),
  ]
  return [
    {},
    { record: { part: 'record', exclude: false, lines: false, records } },
    { record: { part: 'record', exclude: false, lines: true, records } },
    {
      how: {
        part: 'how',
        exclude: false,
        actions: [],
        channels: [],
        runs: Array.from({ length: 60 }, (_, n) => n + 1),
      },
    },
    { how: { part: 'how', exclude: false, actions: ['restore'], channels: [], runs: [] } },
    { state: { part: 'state', exclude: false, states: ['flagged', 'assigned'], stories: [1] } },
    { state: { part: 'state', exclude: true, states: ['flagged'], stories: [1] } },
    what([ids.item, ids.thing], []),
    ...distinct((one) => one.fieldId).map((field) => what([], [field])),
    ...distinct((one) => one.actorId).map((actor): Scope => ({
      who: { part: 'who', exclude: false, actors: [actor], kinds: [] },
    })),
    {
      when: {
        part: 'when',
        exclude: false,
        effective: true,
        span: { span: 'days', from: '2031-01-01', to: '2031-12-31', zone: 'UTC' },
      },
    },
    {
      when: {
        part: 'when',
        exclude: false,
        effective: false,
        span: { span: 'days', from: '2020-01-01', to: null, zone: 'UTC' },
      },
    },
    { value: { part: 'value', exclude: false, tests: [{ test: 'contains', text: 'q' }] } },
    ...distinct((one) => one.fieldId).flatMap((fieldId) =>
      [false, true].map((now): Scope => ({
        holds: {
          part: 'holds',
          exclude: now,
          tests: [{ fieldId, now, values: distinct((one) => (one.fieldId === fieldId ? one.after : null)) }],
        },
      })),
    ),
    { value: { part: 'value', exclude: false, tests: [{ test: 'rose', by: '1', percent: false }] } },
  ]
}

/** What is asked of many scopes is asked by each visitor of every third, by the next of others; `test:faults` asks everything. */
const sharedBy = process.env['SPOOR_REACH'] === 'whole' ? 1 : 3

/** Every address that somebody might ask. @param turn which of those that visitors share */
function everyAddress(turn: number): string[] {
  const query = (path: string, scope: Scope, more: Record<string, string> = {}) =>
    `${path}?${new URLSearchParams({ scope: text(scope), ...more }).toString()}`
  const fragments = ['q', 'z', '0', '[', ...[...tokens].slice(0, 80).map((one) => one.slice(2, 6))]
  return [
    ...[ids.name, ids.secret, ids.amount, ids.title].flatMap((id) => [
      `/fields/${id}/held`,
      query('/figures/pivot', {}, { work: `pivot;rows=held.${id};columns=who`, zone: 'UTC' }),
    ]),
    ...everyScope()
      .flatMap((scope) => [
        query('/changes/saves', scope),
        query('/changes/saves', scope, { together: '1' }),
        query('/changes/saves', scope, { sort: 'record' }),
        query('/changes/saves', scope, { sort: 'who', descending: '0' }),
        query('/changes/summary', scope),
        query('/changes/export.csv', scope, { zone: 'UTC' }),
        query('/changes/export.csv', scope, { zone: 'UTC', list: 'changes', sort: 'after' }),
        query('/changes/changes', scope),
        query('/changes/activity', scope, { zone: 'UTC' }),
        query('/changes/records', scope, { order: 'most', page: '0' }),
        query('/changes/records', scope, { order: 'latest', page: '0' }),
        query('/changes/pairs', scope),
        query('/custody/proved.ndjson', scope),
        ...['day', 'actor', 'type'].map((by) => query('/changes/groups', scope, { by, zone: 'UTC' })),
      ])
      .filter((_, at) => at % sharedBy === turn % sharedBy),
    ...changes.map((one) => `/changes/saves/${one.saveId}`),
    ...changes.flatMap((one) =>
      ['before', 'after'].map((side) => `/changes/saves/${one.saveId}/values/${one.fieldId}?side=${side}`),
    ),
    ...Array.from({ length: 60 }, (_, run) => `/changes/saves?run=${run}&together=1`),
    ...[...new Set(changes.map((one) => `/records/present?typeId=${one.typeId}&key=${encodeURIComponent(one.key)}`))],
    ...[...new Set(changes.map((one) => `/records/story?typeId=${one.typeId}&key=${encodeURIComponent(one.key)}`))],
    ...fragments.map((words) => `/records/find?words=${encodeURIComponent(words)}`),
    '/vocabulary',
    '/scopes',
    '/today?zone=UTC',
    '/today?zone=UTC&from=2020-01-01T00:00:00Z',
    '/layouts',
    '/session',
    '/packs',
    '/regular-packs',
    '/watches',
    '/holidays',
    '/told',
    '/review/waiting',
    '/openapi.json',
    '/people',
    '/directory',
    '/events',
    '/custody',
    '/corrections',
    '/noticing/stories',
    '/noticing/stories/1',
    '/tracking',
    '/erasures',
    '/review/saves/1',
    '/custody/seals',
    '/custody/saves/1',
  ]
}

async function held(visitor: Visitor, has: Reach['has']): Promise<void> {
  const allowed = changes.filter(has)
  const given = allowed.flatMap((one) => [one.told, one.before ?? '', one.after ?? '']).join(' ')
  const forbidden = new Set([...tokens].filter((one) => !given.includes(one)))
  const leaks: string[] = []
  const askNext = async (left: string[]) => {
    for (let path = left.pop(); path !== undefined; path = left.pop()) {
      const response = await visitor.send('GET', path)
      const answer = await response.text()
      expect(response.status, path).toBeLessThan(500)
      for (const [one] of answer.matchAll(anyToken))
        if (forbidden.has(one) && !decodeURIComponent(path).includes(one))
          leaks.push(`${path}: ${answer.slice(Math.max(0, answer.indexOf(one) - 80), answer.indexOf(one) + 30)}`)
    }
  }
  const addresses = everyAddress(people)
  await Promise.all([askNext(addresses), askNext(addresses), askNext(addresses)])
  expect(leaks.slice(0, 5), `${leaks.length} leaks`).toEqual([])

  const read = async <T>(path: string) => (await (await visitor.send('GET', path)).json()) as T
  const summary = await read<Summary>('/changes/summary')
  const saves = new Set(allowed.map((one) => one.saveId)).size
  expect([summary.saves, summary.changes]).toEqual([saves, allowed.length])
  expect(summary.gaps.filter((gap) => !allowed.some((one) => one.fieldId === gap.fieldId))).toEqual([])
  const day = await read<Today>('/today?zone=UTC&from=2020-01-01T00:00:00Z')
  const strip = day.strip.flatMap((one) => Object.values(one.saves)).reduce((sum, one) => sum + one, 0)
  expect([day.saves, strip]).toEqual([saves, saves])
  const grouped = await read<{ groups: { saves: number }[] }>('/changes/groups?by=actor&zone=UTC')
  expect(grouped.groups.reduce((sum, one) => sum + one.saves, 0)).toBe(saves)
}

describe('nobody is told more than their reach gives', () => {
  it.each(Object.keys(reaches))('an auditor of %s', { timeout: 120_000 }, async (name) => {
    const { scope, has } = reaches[name]!()
    await held(await visit('auditor', scope), has)
  })

  it('a contributor', { timeout: 120_000 }, async () => {
    const own = await world.db('spoor.question').first<{ text: string }>('text')
    tokens.delete(own.text) // It was put to them.
    await held(await visit('contributor', {}), (one) => one.actorId === actorIds[actors.cat])
  })

  it('an auditor without a reach, or with one that leaves nothing out, sees nothing', async () => {
    const visitor = await visit('auditor', {})
    await held(visitor, () => false)
    await expect(
      world.people.create('open', 'a password of nobody', {
        name: 'Open',
        role: 'auditor',
        actorId: null,
        reach: '',
        reachFrom: null,
        reachUntil: null,
      }),
    ).rejects.toMatchObject({ code: 'rule-broken' })
  })

  it('whoever sees everything is told that this is so: the test finds the tokens', async () => {
    const visitor = await new Visitor(address).arrive()
    await visitor.signIn('ada', 'password of ada')
    const answers = await Promise.all(
      ['/changes/export.csv?zone=UTC', '/changes/saves?limit=200'].map(async (path) =>
        (await visitor.send('GET', path)).text(),
      ),
    )
    const found = changes.filter(
      (one) => one.after !== null && tokens.has(one.after) && answers.every((answer) => answer.includes(one.after!)),
    )
    expect(found.length).toBeGreaterThan(30)
  })

  it('the day of effect is asked only where all of it is seen', async () => {
    const effective: Scope = {
      when: {
        part: 'when',
        exclude: false,
        effective: true,
        span: { span: 'days', from: '2031-01-01', to: '2032-12-31', zone: 'UTC' },
      },
    }
    const saves = async (scope: Scope) => {
      const visitor = await visit('auditor', scope)
      return (
        (await (
          await visitor.send('GET', `/changes/summary?scope=${encodeURIComponent(text(effective))}`)
        ).json()) as Summary
      ).saves
    }
    expect(await saves(what([ids.item], []))).toBeGreaterThan(0)
    expect(await saves(what([], [ids.name]))).toBe(0)
    expect(await saves(reaches['one actor']!().scope)).toBe(0)
  })

  it('the pulse says how the ledger stands, and not how much goes into it', async () => {
    const visitor = await visit('auditor', what([ids.thing], []))
    const response = await fetch(`${address}/api/v1/pulse`, { headers: { cookie: visitor.cookie } })
    const reader = response.body!.getReader()
    const { value } = await reader.read()
    await reader.cancel()
    expect(JSON.parse(new TextDecoder().decode(value).replace(/^data: /, ''))).toMatchObject({
      sources: [],
      latestSave: null,
      alarms: 0,
      mismatches: 0,
      working: 0,
    })
  })

  it('what records held is told to nobody who sees a part, and never what is masked', async () => {
    const holding: Scope = {
      holds: { part: 'holds', exclude: true, tests: [{ fieldId: ids.name, now: true, values: ['nobody’s'] }] },
    }
    const asked = async (visitor: Visitor) => {
      const status = async (path: string) => (await visitor.send('GET', path)).status
      const summary = await visitor.send('GET', `/changes/summary?scope=${encodeURIComponent(text(holding))}`)
      return {
        saves: ((await summary.json()) as Summary).saves,
        held: await status(`/fields/${ids.name}/held`),
        pivot: await status(`/figures/pivot?scope=&zone=UTC&work=pivot;rows=held.${ids.name}`),
      }
    }
    const read = async (scope: Scope) => asked(await visit('auditor', scope))
    const ada = async () => {
      const visitor = await new Visitor(address).arrive()
      await visitor.signIn('ada', 'password of ada')
      return visitor
    }
    for (const reach of [what([ids.item], []), what([], [ids.amount]), reaches['one actor']!().scope])
      expect(await read(reach)).toEqual({ saves: 0, held: 403, pivot: 403 })
    expect(await asked(await ada())).toMatchObject({ held: 200, pivot: 200 })
    expect((await asked(await ada())).saves).toBeGreaterThan(0)
    const draft = await readDraft(world.db, world.sourceId)
    const edits = [{ typeId: ids.item, fieldId: ids.name, masked: true }]
    await stageDraft(world.db, world.sourceId, draft.revision, edits, world.adminId)
    await putInForce(world.db, world.sources, world.sourceId, draft.revision + 1, 'masked by a test', world.admin)
    expect(await asked(await ada())).toEqual({ saves: 0, held: 403, pivot: 403 })
  })
})
