import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { saveDetail } from '../src/changes/queries/detail.ts'
import { listDirectory, readStaffCsv, takeStaffList } from '../src/people/directory.ts'
import type { Scope } from '@spoor/core'
import type { SignedIn } from '../src/http/bind.ts'
import { savePage } from '../src/ledger/saves.ts'
import { requestedScopes } from '../src/scope/request.ts'
import { countEvents, listEvents } from '../src/ledger/events.ts'
import { listUnmapped, removeIdentity, setIdentity } from '../src/people/identities.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { serve, signIn as signInTo, type Served } from './browser.ts'
import { withActorContext } from './context.ts'
import { ledger, makeWorld, track, type World } from './support.ts'

let world: World
let served: Served

beforeAll(async () => {
  world = await makeWorld('create table public.note (id int primary key, word text, secret text)')
  await track(world, { note: ['word', 'secret'] })
  served = await serve(world)
})
afterAll(async () => {
  await served.close()
  await world.close()
})

let nextId = 1
async function write(context: { actor?: string } | null): Promise<string> {
  const id = nextId++
  if (context?.actor)
    await withActorContext(world.business, { actor: context.actor }, `insert into note values (${id}, 'w', 's')`)
  else await world.business.query('insert into note values ($1, $2, $3)', [id, 'w', 's'])
  await world.collect()
  return (await ledger(world)).at(-1)!.id
}
const latest = async () => (await ledger(world)).at(-1)!
const staff = (csv: string, dryRun = false) => takeStaffList(world.db, readStaffCsv(csv), { dryRun })
const heading = 'name,kind,login,unit,joined,left,id'

describe('the staff list', () => {
  it('says line and column of everything that is wrong, and takes nothing of it', () => {
    expect(() =>
      readStaffCsv(`${heading}\n,person,,,,,\nAda,robot,,,,,\nBo,person,,,2026-13-01,,\nBo,person,,,,,`),
    ).toThrow(
      /line 2: name is empty.*line 3: kind is none of.*line 4: joined is not a date.*as it was|as it was.*line 2: name is empty/s,
    )
    expect(() => readStaffCsv('name,kind\n"broken')).toThrow(/was not loaded/)
  })

  it('shows what it would change and changes nothing until it is taken', async () => {
    const csv = `${heading}\nAda Lindgren,person,ada,Lettings,2020-01-01,,7\nBo Carr,person,bo,Repairs,,,8`
    expect((await staff(csv, true)).changes.map((one) => one.change)).toEqual(['added', 'added'])
    expect(await listDirectory(world.db)).toEqual([])
    await staff(csv)
    expect((await listDirectory(world.db)).map((entry) => entry.name)).toEqual(['Ada Lindgren', 'Bo Carr'])
    expect((await staff(csv)).changes).toEqual([])
  })

  it('follows a change of name: saves under either are the same person’s', async () => {
    const before = await write({ actor: 'Ada Lindgren' })
    const outcome = await staff(`${heading}\nAda Carr,person,ada,Lettings,2020-01-01,,7\nBo Carr,person,bo,Repairs,,,8`)
    expect(outcome.changes).toEqual([
      { change: 'renamed', name: 'Ada Carr', words: 'was Ada Lindgren; their saves stay theirs' },
    ])
    await write({ actor: 'Ada Carr' })
    await write({ actor: 'Ada Lindgren' })
    const names = (await ledger(world)).slice(-3).map((save) => save.actor)
    expect(new Set(names)).toEqual(new Set(['Ada Carr']))
    const detail = await saveDetail(world.db, before, {}, Date.now())
    expect(detail).toMatchObject({ nameThen: 'Ada Lindgren', save: { actor: { name: 'Ada Carr', unit: 'Lettings' } } })
  })

  it('keeps leavers and names who is missing from the list', async () => {
    const outcome = await staff(`${heading}\nAda Carr,person,ada,Lettings,2020-01-01,2026-10-31,7`)
    expect(outcome.changes.map((one) => [one.change, one.name])).toEqual([
      ['left', 'Ada Carr'],
      ['missing', 'Bo Carr'],
    ])
  })
})

describe('logins and said names', () => {
  it('lists who is not known with what they did, and maps them from then on', async () => {
    const before = await write(null)
    const [unmapped] = await listUnmapped(world.db)
    expect(unmapped).toMatchObject({ by: 'login', text: 'business_app', kind: 'unknown', saves: 1 })
    const bo = (await listDirectory(world.db)).find((entry) => entry.name === 'Bo Carr')!
    const open = { sourceId: world.sourceId, forActorId: null, fromOn: null, untilOn: null }
    const identity = await setIdentity(world.db, {
      ...open,
      by: 'login',
      text: 'business_app',
      who: { actorId: bo.actorId },
    })
    expect(await listUnmapped(world.db)).toEqual([])
    await write(null)
    expect(await latest()).toMatchObject({ actor: 'Bo Carr', kind: 'person' })
    expect((await saveDetail(world.db, before, {}, Date.now()))!.save.actor).toMatchObject({
      name: 'login business_app',
      knownAs: 'Bo Carr',
    })
    await removeIdentity(world.db, identity.id)
    await write(null)
    expect(await latest()).toMatchObject({ actor: 'login business_app', kind: 'unknown' })
  })

  it('knows a delegate for the spell in which they act, and for whom', async () => {
    const bo = (await listDirectory(world.db)).find((entry) => entry.name === 'Bo Carr')!
    const delegate = {
      sourceId: world.sourceId,
      by: 'login' as const,
      text: 'business_app',
      who: { kind: 'delegate' as const, name: 'Support' },
      forActorId: bo.actorId,
    }
    const today = new Date().toISOString().slice(0, 10)
    const past = await setIdentity(world.db, { ...delegate, fromOn: '2020-01-01', untilOn: '2020-02-01' })
    await write(null)
    expect((await latest()).kind).toBe('unknown')
    const now = await setIdentity(world.db, { ...delegate, fromOn: today, untilOn: today })
    await write(null)
    expect(await latest()).toMatchObject({ actor: 'Support', kind: 'delegate' })
    expect((await world.db('ledger.save').orderBy('id', 'desc').first('on_behalf_of')).on_behalf_of).toBe('Bo Carr')
    for (const { id } of [past, now]) await removeIdentity(world.db, id)
    await expect(
      setIdentity(world.db, { ...delegate, fromOn: '2026-02-01', untilOn: '2026-01-01' }),
    ).rejects.toMatchObject({ code: 'bad-request' })
  })
})

const signIn = (login: string, password: string) => signInTo(served, login, password)

describe('access', () => {
  it('lets an auditor see one scope, counts and names included, and only between two days', async () => {
    const admin = await signIn('ada', 'password of ada')
    const bo = (await listDirectory(world.db)).find((entry) => entry.name === 'Bo Carr')!
    await write({ actor: 'Bo Carr' })
    const person = {
      login: 'aud',
      password: 'password of aud',
      name: 'Audrey',
      role: 'auditor',
      reachFrom: null,
      reachUntil: null,
    }
    expect((await admin.send('POST', '/people', person)).answer.code).toBe('rule-broken')
    const added = await admin.send('POST', '/people', { ...person, reach: `who=a${bo.actorId}` })
    expect(added.status).toBe(200)
    const auditor = await signIn('aud', 'password of aud')
    const summary = await auditor.send('GET', '/changes/summary')
    const own = (await ledger(world)).filter((save) => save.actor === 'Bo Carr').length
    expect(summary.answer).toMatchObject({ saves: own })
    const vocabulary = await auditor.send('GET', '/vocabulary')
    expect((vocabulary.answer['actors'] as { name: string }[]).map((actor) => actor.name)).toEqual(['Bo Carr'])
    expect((await auditor.send('GET', '/tracking')).status).toBe(403)
    const { id } = added.answer as unknown as { id: number }
    await admin.send('PUT', `/people/${id}`, {
      ...person,
      login: undefined,
      password: undefined,
      reach: `who=a${bo.actorId}`,
      reachUntil: '2020-01-01',
      disabled: false,
    })
    expect((await auditor.send('GET', '/changes/summary')).answer.code).toBe('not-signed-in')
    expect((await signIn('aud', 'password of aud')).answer.code).toBe('not-allowed')
  })

  it('shows an auditor of one field nothing of the others, not even in the saves that changed both', async () => {
    const admin = await signIn('ada', 'password of ada')
    const word = await world.db('spoor.field').where({ column_name: 'word' }).first('id')
    const person = {
      login: 'narrow',
      password: 'password of narrow',
      name: 'Nora',
      role: 'auditor',
      reach: `what=f${word.id}`,
    }
    expect((await admin.send('POST', '/people', person)).status).toBe(200)
    await world.business.query(`insert into note values (${nextId++}, 'seen', 'kept from her')`)
    await world.collect()
    const auditor = await signIn('narrow', 'password of narrow')
    const list = await auditor.send('GET', '/changes/saves')
    const { saves } = list.answer as unknown as { saves: { id: string; changes: { fieldId: number }[] }[] }
    expect(new Set(saves.flatMap((save) => save.changes.map((change) => change.fieldId)))).toEqual(new Set([word.id]))
    for (const path of [
      `/changes/saves/${saves[0]!.id}`,
      '/changes/changes',
      '/vocabulary',
      '/changes/records',
      '/changes/pairs',
    ])
      expect(JSON.stringify((await auditor.send('GET', path)).answer), path).not.toMatch(/kept from her|"secret"/)
    const probe = await auditor.send('GET', `/changes/summary?scope=${encodeURIComponent('value=has.kept from')}`)
    expect(probe.answer).toMatchObject({ saves: 0, changes: 0 })
  })

  it('keeps administrators from locking themselves out, and records what was done with its outcome', async () => {
    const admin = await signIn('ada', 'password of ada')
    const me = { name: 'Ada Admin', role: 'reviewer', disabled: false }
    expect((await admin.send('PUT', `/people/${world.adminId}`, me)).answer.code).toBe('rule-broken')
    expect(
      (await admin.send('POST', '/people', { login: 'new', password: 'short', name: 'N', role: 'reviewer' })).answer
        .code,
    ).toBe('rule-broken')
    await signIn('ada', 'wrong')
    const { events } = await listEvents(world.db, {})
    expect(events.map((event) => [event.kind, event.outcome])).toEqual(
      expect.arrayContaining([
        ['sign-in', 'refused'],
        ['person', 'refused'],
        ['person', 'done'],
        ['sign-in', 'done'],
      ]),
    )
    expect(JSON.stringify(events)).not.toContain('password of')
    await expect(world.db('ledger.event').delete()).rejects.toMatchObject({ code: '42501' })
    await expect(world.db('ledger.event').update({ words: 'x' })).rejects.toMatchObject({ code: '42501' })
  })

  it('counts by person and kind what it lists, in the scope’s time and of its people', async () => {
    const saveId = await write({ actor: 'Ada Admin' })
    const { actor_id: actorId } = await world
      .db('ledger.save')
      .where({ id: saveId })
      .first<{ actor_id: number }>('actor_id')
    await world.db('spoor.person').where({ id: world.adminId }).update({ actor_id: actorId })
    const scopes = [
      {},
      {
        when: {
          part: 'when',
          exclude: false,
          effective: false,
          span: { span: 'instants', from: '2020-01-01T00:00:00Z', to: null, zone: 'UTC' },
        },
      },
      {
        when: {
          part: 'when',
          exclude: true,
          effective: false,
          span: { span: 'instants', from: '2020-01-01T00:00:00Z', to: null, zone: 'UTC' },
        },
      },
      { who: { part: 'who', exclude: false, actors: [actorId], kinds: [] } },
      { who: { part: 'who', exclude: true, actors: [actorId], kinds: [] } },
      { who: { part: 'who', exclude: false, actors: [], kinds: ['person'] } },
    ] as const satisfies Scope[]
    const sizes: number[] = []
    for (const scope of scopes)
      for (const filter of [
        {},
        { outcome: 'refused' },
        { kind: 'sign-in,person' },
        { words: 'sign' },
        { by: world.adminId },
        { by: 0 },
      ] as const) {
        const counts = await countEvents(world.db, { ...filter, scopes: [scope] })
        const { events } = await listEvents(world.db, { ...filter, scopes: [scope] })
        const of = (list: readonly { by: string | null; kind: string }[]) => list.map((one) => `${one.by} ${one.kind}`)
        expect(new Set(of(counts))).toEqual(new Set(of(events)))
        expect(counts.reduce((sum, one) => sum + one.events, 0)).toBe(events.length)
        expect(counts.reduce((sum, one) => sum + one.refused, 0)).toBe(
          events.filter((one) => one.outcome === 'refused').length,
        )
        sizes.push(events.length)
      }
    const [all, since, before, mine, others, persons] = sizes.filter((_, at) => at % 6 === 0) as [
      number,
      number,
      number,
      number,
      number,
      number,
    ]
    expect(since).toBe(all)
    expect(before).toBe(0)
    expect(mine).toBeGreaterThan(0)
    expect(mine + others).toBe(all)
    expect(persons).toBeLessThan(all)
  })

  it('ends the session of whoever is switched off, and of whoever is idle for longer than the rules allow', async () => {
    const admin = await signIn('ada', 'password of ada')
    const added = await admin.send('POST', '/people', {
      login: 'rev',
      password: 'password of rev',
      name: 'Rev',
      role: 'reviewer',
    })
    const reviewer = await signIn('rev', 'password of rev')
    expect((await reviewer.send('GET', '/changes/summary')).status).toBe(200)
    await world.db.raw(
      `update spoor.session set sess = jsonb_set(sess::jsonb, '{seenMs}', '1')::json where sess ->> 'personId' = ?`,
      [String(added.answer['id'])],
    )
    expect((await reviewer.send('GET', '/changes/summary')).status).toBe(401)
    const again = await signIn('rev', 'password of rev')
    await admin.send('PUT', `/people/${String(added.answer['id'])}`, { name: 'Rev', role: 'reviewer', disabled: true })
    expect((await again.send('GET', '/changes/summary')).status).toBe(401)
  })
})

describe('masked fields', () => {
  it('are shown nowhere until they are revealed, and each reveal is recorded', async () => {
    const secret = await world.db('spoor.field').where({ column_name: 'secret' }).first('id', 'type_id')
    const { revision } = await readDraft(world.db, world.sourceId)
    await stageDraft(
      world.db,
      world.sourceId,
      revision,
      [{ typeId: secret.type_id, fieldId: secret.id, masked: true }],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, revision + 1, 'private', world.admin)
    const saveId = await write({ actor: 'Bo Carr' })
    await world.business.query(`update note set secret = 'hunter2' where id = ${nextId - 1}`)
    await world.collect()
    const admin = await signIn('ada', 'password of ada')
    const later = (await ledger(world)).at(-1)!.id
    for (const path of [`/changes/saves/${saveId}`, `/changes/saves/${later}`, '/changes/saves?limit=200'])
      expect(JSON.stringify((await admin.send('GET', path)).answer)).not.toContain('hunter2')
    const csv = await fetch(`${served.base}/changes/export.csv`)
    expect(csv.status).toBe(401)
    const draft = await admin.send('POST', '/corrections', { changes: [{ saveId: later }] })
    expect(JSON.stringify(draft.answer)).not.toContain('hunter2')
    const { events: compared } = await listEvents(world.db, { kind: 'reveal' })
    expect(compared[0]).toMatchObject({
      by: 'Ada Admin',
      words: expect.stringMatching(/^had 1 masked value compared with what is there now, in correction \d+$/),
    })
    const shown = await admin.send('POST', `/changes/saves/${later}/reveal`, { fieldId: secret.id })
    expect(shown.answer).toEqual({ before: 's', after: 'hunter2' })
    const { events } = await listEvents(world.db, { kind: 'reveal' })
    expect(events[0]).toMatchObject({ by: 'Ada Admin', words: `revealed secret of save ${later}` })
  })
})

describe('who and what, as people say it', () => {
  it('says whom a unit, newcomers, leavers and the reader mean', async () => {
    const day = (monthsAgo: number) => new Date(Date.now() - monthsAgo * 31 * 86_400_000).toISOString().slice(0, 10)
    await staff(
      [
        heading,
        'Ada Carr,person,ada,"Lettings, north",2020-01-01,,7',
        `Bo Carr,person,bo,Repairs,${day(3)},${day(1)},8`,
        `Cy Vane,person,cy,"Lettings, north",${day(5)},,9`,
      ].join('\n'),
    )
    const saves: Record<string, string> = {}
    for (const actor of ['Ada Lindgren', 'Ada Carr', 'Bo Carr', 'Cy Vane', 'Ada Admin'])
      saves[actor] = await write({ actor })
    const shown = async (who: string, reader: SignedIn = world.admin) => {
      const scopes = await requestedScopes(world.db, `who=${encodeURIComponent(who)}`, reader)
      const page = await savePage(world.db, scopes, { after: undefined, limit: 200, nowMs: Date.now() })
      const ids = new Set(page.saves.map((save) => save.id))
      return Object.keys(saves).filter((actor) => ids.has(saves[actor]!))
    }
    const all = Object.keys(saves)
    expect(await shown('u.Lettings%2C%20north')).toEqual(['Ada Lindgren', 'Ada Carr', 'Cy Vane'])
    expect(await shown('left')).toEqual(['Bo Carr'])
    expect(await shown('joined4m')).toEqual(['Bo Carr'])
    expect(await shown('joined6m')).toEqual(['Bo Carr', 'Cy Vane'])
    expect(await shown('!joined6m')).toEqual(all.filter((actor) => actor !== 'Bo Carr' && actor !== 'Cy Vane'))
    expect(await shown('me')).toEqual(['Ada Admin'])
    expect(await shown('u.Nowhere')).toEqual([])
    expect(await shown('!u.Nowhere')).toEqual(all)
    const limited = { ...world.admin, role: 'auditor' as const, reach: 'who=left' }
    expect(await shown('left', limited)).toEqual(['Bo Carr'])
    expect(await shown('me', limited)).toEqual([])
    // When somebody joined is nothing that such a reader is told.
    expect(await shown('joined6m', limited)).toEqual([])
    expect(await shown('!joined6m', limited)).toEqual([])
  })

  it('the whole of a transaction is shown from any of its saves, to whoever may see that one', async () => {
    const first = nextId
    nextId += 3
    await world.business.query(`insert into note select g, 'w', 's' from generate_series(${first}, ${first + 2}) g`)
    await world.collect()
    const made = (await ledger(world)).slice(-3).map((save) => save.id)
    const shown = async (how: string, reader: SignedIn = world.admin) => {
      const scopes = await requestedScopes(world.db, `how=${how}`, reader)
      const page = await savePage(world.db, scopes, { after: undefined, limit: 200, nowMs: Date.now() })
      return page.saves.map((save) => save.id).toReversed()
    }
    expect(await shown(`x${made[1]}`)).toEqual(made)
    expect(await shown(`delete,x${made[1]}`)).toEqual([])
    const [type] = await world.db('spoor.record_type').pluck<number[]>('id')
    const key = (id: number) => encodeURIComponent(`t${type}:["${id}"]`)
    const limited = { ...world.admin, role: 'auditor' as const, reach: `record=${key(first)}&record=${key(first + 1)}` }
    expect(await shown(`x${made[0]}`, limited)).toEqual(made.slice(0, 2))
    expect(await shown(`x${made[2]}`, limited)).toEqual([])
    expect(await shown(`!x${made[2]}`, limited)).toEqual([])
    // A reach that is said in groups is put down as actors, too.
    await world.db('spoor.actor').update({ unit: 'Writers' })
    const ofUnit = { ...world.admin, role: 'auditor' as const, reach: 'who=u.Writers' }
    expect(await shown(`x${made[0]}`, ofUnit)).toEqual(made)
  })
})
