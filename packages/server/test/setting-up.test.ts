import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { PlanEdit } from '@spoor/core'
import type { SignedIn } from '../src/http/bind.ts'
import { connect } from '../src/database/knex.ts'
import { checkSource } from '../src/sources/check.ts'
import { withOwnLogin } from '../src/sources/own-login.ts'
import { demandUnknown } from '../src/capture/same.ts'
import { describeType } from '../src/sources/describe.ts'
import { sampleActivity } from '../src/tracking/activity.ts'
import { blindSpots, lookForUnseen } from '../src/tracking/blind-spots.ts'
import { costDraft } from '../src/tracking/cost.ts'
import { readCoverage } from '../src/tracking/coverage.ts'
import { readInstallation, stopInstallation } from '../src/tracking/installation-steps.ts'
import {
  draftShown,
  planInForce,
  proposeDraft,
  readDraft,
  sendDraftBack,
  stageDraft,
} from '../src/tracking/plan-store.ts'
import { prove } from '../src/tracking/proof.ts'
import { installDraft, Installing } from '../src/tracking/installing.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { refitCapture } from '../src/tracking/refit.ts'
import { rehearseDraft } from '../src/tracking/rehearsal.ts'
import {
  compareVersions,
  listVersions,
  readPlanFile,
  returnToVersion,
  writePlanFile,
} from '../src/tracking/versions.ts'
import { withActorContext } from './context.ts'
import { asSuperuser, urlFor } from './names.ts'
import { Work } from '../src/work/work.ts'
import { ledger, makeWorld, silentLog, track, type World } from './support.ts'

let world: World
let approver: SignedIn
const fields = new Map<string, { id: number; typeId: number }>()

beforeAll(async () => {
  world = await makeWorld(`
    create type public.stage as enum ('raised', 'done');
    create table public.job_code (code text primary key, name text not null);
    create table public.repair (id int primary key, stage public.stage not null default 'raised', note text, seen_by text,
      priority text not null check (priority in ('low', 'high')), doubled int generated always as (id * 2) stored);
    create table public.repair_line (id int primary key, repair_id int not null references public.repair on delete cascade,
      code text not null references public.job_code, price numeric(8,2) not null);
    create table public.visit (id int primary key, at date);
    insert into public.job_code values ('A', 'one'), ('B', 'two');
    insert into public.repair select g, 'raised', 'n' || g, null, 'low' from generate_series(1, 20) g;
    insert into public.repair_line select g, 1 + g % 20, 'A', g from generate_series(1, 40) g`)
  await world.sources.refresh(world.sourceId)
  const rows = await world
    .db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .select<{ id: number; type_id: number; name: string }[]>(
      'f.id',
      'f.type_id',
      world.db.raw(`t.table_name || '.' || f.column_name as name`),
    )
  for (const row of rows) fields.set(row.name, { id: row.id, typeId: row.type_id })
  await world.people.add({ login: 'ann', name: 'Ann Approver', role: 'approver', password: 'password of ann' })
  approver = (await world.people.authenticate('ann', 'password of ann'))!
})
afterAll(() => world.close())

const field = (name: string) => ({ typeId: fields.get(name)!.typeId, fieldId: fields.get(name)!.id })
const on = (name: string): PlanEdit => ({ ...field(name), keep: 'values' })
async function stage(edits: PlanEdit[], typed: string[] = []): Promise<number> {
  const { revision } = await readDraft(world.db, world.sourceId)
  await stageDraft(world.db, world.sourceId, revision, edits, world.adminId, typed)
  return revision + 1
}
async function put(edits: PlanEdit[], typed: string[] = [], person = world.admin): Promise<number> {
  return await putInForce(world.db, world.sources, world.sourceId, await stage(edits, typed), 'a reason', person)
}

describe('connecting', () => {
  it('says what a login may do, with the statement that would mend what is missing', async () => {
    const good = await checkSource(world.businessAs('spoor_test_source'))
    expect(good).toMatchObject({ usable: true, tables: 4, trackable: 4 })
    const poor = await checkSource(world.businessAs('stranger'))
    expect(poor.usable).toBe(false)
    expect(poor.checks.filter((one) => !one.passed).map((one) => one.remedy)).toContain(
      `grant create on database "${world.names.business}" to "stranger";`,
    )
  })

  it('says in words that nothing answers, and keeps nothing', async () => {
    const nobody = await checkSource('postgresql://a:b@127.0.0.1:1/x')
    expect(nobody).toMatchObject({ usable: false, database: null })
    expect(nobody.checks[0]!.words).toContain('Nothing answers')
  })

  it('refuses a database that is a source already, by whatever address, and one that another Spoor collects from', async () => {
    const candidate = connect(world.superuserUrl, { applicationName: 'test', maxConnections: 1 })
    await expect(demandUnknown(world.db, world.sources, candidate, null)).rejects.toMatchObject({
      code: 'source-known',
    })
    await demandUnknown(world.db, world.sources, candidate, world.sourceId)
    await candidate.destroy()
  })

  it('has a superuser make a login of its own, with the rights of the tables’ owners and no others', async () => {
    const { ownLogin } = await checkSource(world.superuserUrl)
    expect(ownLogin!.statements).toEqual([
      `create role "${ownLogin!.login}" login password '…';`,
      `grant "business_owner" to "${ownLogin!.login}";`,
      `grant create on database "${world.names.business}" to "${ownLogin!.login}";`,
    ])
    expect((await checkSource(world.businessAs('spoor_test_source'))).ownLogin).toBeNull()
    const login = async () => {
      const { rows } = await asSuperuser(world.superuserUrl, (client) =>
        client.query<Record<string, unknown>>(
          `select rolsuper or rolcreaterole or rolcreatedb or rolbypassrls as more, rolpassword like 'SCRAM-SHA-256$%' as hashed
             from pg_authid where rolname = $1`,
          [ownLogin!.login],
        ),
      )
      return rows
    }
    // What fails afterwards leaves no login behind.
    await expect(withOwnLogin(world.superuserUrl, () => Promise.reject(new Error('not kept')))).rejects.toThrow(
      'not kept',
    )
    expect(await login()).toEqual([])
    await withOwnLogin(world.superuserUrl, async (own) => {
      expect(await login()).toEqual([{ more: false, hashed: true }])
      expect(await checkSource(own)).toMatchObject({ usable: true, trackable: 4, ownLogin: null })
      expect((await checkSource(world.superuserUrl)).ownLogin, 'there is one already').toBeNull()
      await expect(withOwnLogin(world.superuserUrl, () => Promise.resolve())).rejects.toMatchObject({
        code: 'source-refused',
      })
      return await Promise.reject(new Error('done'))
    }).catch((error: Error) => expect(error.message).toBe('done'))
    expect(await login()).toEqual([])
  })

  it('proposes lines and references from the foreign keys', async () => {
    const types = await world.db('spoor.record_type').select('id', 'table_name', 'parent_type_id')
    const idOf = new Map(types.map((type) => [type.table_name, type.id]))
    expect(types.find((type) => type.table_name === 'repair_line').parent_type_id).toBe(idOf.get('repair'))
    expect(types.filter((type) => type.parent_type_id !== null)).toHaveLength(1)
    const code = await world
      .db('spoor.field')
      .where({ id: fields.get('repair_line.code')!.id })
      .first('refers_to')
    expect(code.refers_to).toBe(idOf.get('job_code'))
  })

  it('writes nothing when it looks again and nothing is different', async () => {
    const versions = async () =>
      (await world.db.raw(`select string_agg(xmin::text, ',' order by id) as v from spoor.field`)).rows[0].v
    const before = await versions()
    await world.sources.refresh(world.sourceId)
    expect(await versions()).toBe(before)
  })
})

describe('the draft', () => {
  it('is refused whole when it contradicts itself, and says why', async () => {
    await expect(stage([{ ...field('repair.note'), masked: true }])).rejects.toMatchObject({
      code: 'plan-contradicts',
      message: 'note of repairs is not tracked, so nothing more can be said of it. The draft is as it was.',
    })
    expect((await readDraft(world.db, world.sourceId)).edits).toEqual([])
  })

  it('takes a lock only with what it means typed out', async () => {
    const lock = { ...on('repair_line.price'), lock: { until: null } } as PlanEdit
    await expect(stage([lock])).rejects.toMatchObject({ code: 'lock-not-confirmed' })
    await stage([lock], ['Keep for good'])
    await stage([lock, on('repair.note')])
  })

  it('is put in force with lines captured under their parent', async () => {
    await put([
      { ...on('repair_line.price'), lock: { until: null } } as PlanEdit,
      on('repair.note'),
      on('repair.stage'),
      on('repair.priority'),
      on('repair.doubled'),
    ])
    await world.business.query('update repair_line set price = price + 1 where id = 3')
    await world.collect()
    const save = await world.db('ledger.save').orderBy('id', 'desc').first('parent_type_id', 'parent_key')
    expect(save).toEqual({ parent_type_id: field('repair.note').typeId, parent_key: '["4"]' })
    const change = await world.db('ledger.change').orderBy('save_id', 'desc').first('parent_key')
    expect(change.parent_key).toBe('["4"]')
  })

  it('does not let a locked field go, whoever asks and however', async () => {
    await expect(stage([{ ...field('repair_line.price'), keep: 'off' }])).rejects.toMatchObject({
      code: 'plan-contradicts',
    })
    const run = await returnToVersion(world.db, world.sourceId, 0)
    expect(run.troubles.join()).toContain('locked for good')
    const file = await writePlanFile(world.db, world.sourceId, undefined)
    const without = { ...file, types: file.types.filter((type) => type.table !== 'repair_line') }
    expect((await readPlanFile(world.db, world.sourceId, without, world.adminId)).troubles.join()).toContain(
      'locked for good',
    )
  })

  it('enforces a reason for the fields that need one, and for no others', async () => {
    await put([{ ...field('repair.note'), reason: 'required' }])
    await expect(world.business.query(`update repair set note = 'x' where id = 1`)).rejects.toMatchObject({
      code: 'SPR01',
    })
    await world.business.query(`update repair set stage = 'done' where id = 1`)
    await withActorContext(
      world.business,
      { actor: 'Ada', reason: 'because' },
      `update repair set note = 'x' where id = 1`,
    )
    await put([{ ...field('repair.note'), reason: 'never' }])
    await world.business.query(`update repair set note = 'y' where id = 1`)
  })

  it('says what it will cost and takes the time of real writes without leaving a trace', async () => {
    const source = await world.sources.connection(world.sourceId)
    await sampleActivity(world.db, source, world.sourceId, { now: true })
    const writer = new pg.Client({ connectionString: world.businessAs('business_app') })
    await writer.connect()
    await writer.query('insert into visit select g, current_date from generate_series(1, 50) g')
    await writer.end()
    await new Promise((done) => setTimeout(done, 500)) // A session that ends reports its counters.
    await sampleActivity(world.db, source, world.sourceId, { now: true })
    await stage([on('visit.at')])
    await asSuperuser(world.superuserUrl, (client) => client.query('analyze visit'))
    const cost = await costDraft(world.db, world.sources, world.sourceId)
    expect(cost.found).toMatchObject({ records: 50, values: 50 })
    expect(cost.found!.bytes).toBeGreaterThan(50 * 100)
    expect(cost.then.savesPerDay - cost.now.savesPerDay).toBe(50)
    expect(cost.unknown).toEqual([])
    const [rehearsal] = await rehearseDraft(world.db, world.sources, world.sourceId)
    expect(rehearsal).toMatchObject({ typeId: field('visit.at').typeId, rows: 50, why: null })
    expect(rehearsal!.trackedMs).toBeGreaterThan(0)
    const { rows } = await world.business.query(
      `select count(*)::int as n from pg_proc where proname ~ '^spoor_t2[0-9]{9}_'`,
    )
    expect(rows[0].n).toBe(0)
    await stage([])
  })
})

describe('a second person', () => {
  it('puts in force what another proposed, and nobody does alone', async () => {
    await put([{ secondPerson: true }])
    await expect(put([on('visit.at')])).rejects.toMatchObject({ code: 'second-person' })
    const { revision } = await readDraft(world.db, world.sourceId)
    await proposeDraft(world.db, world.sourceId, revision, 'visits matter', world.adminId)
    await expect(
      putInForce(world.db, world.sources, world.sourceId, revision, 'self', world.admin),
    ).rejects.toMatchObject({ code: 'second-person' })
    await sendDraftBack(world.db, world.sourceId, revision, 'say more', approver.id)
    expect(await draftShown(world.db, world.sourceId)).toMatchObject({
      proposed: null,
      sentBack: { by: 'Ann Approver', why: 'say more' },
    })
    await expect(
      putInForce(world.db, world.sources, world.sourceId, revision, 'not proposed', approver),
    ).rejects.toMatchObject({ code: 'second-person' })
    await proposeDraft(world.db, world.sourceId, revision, 'visits matter, the auditor says', world.adminId)
    const version = await putInForce(world.db, world.sources, world.sourceId, revision, 'agreed', approver)
    const [latest] = await listVersions(world.db, world.sourceId)
    expect(latest).toMatchObject({
      version,
      by: 'Ada Admin',
      approvedBy: 'Ann Approver',
      reason: 'visits matter, the auditor says',
    })
  })

  it('takes a proposal back when the draft is edited', async () => {
    const revision = await stage([{ secondPerson: false }])
    await proposeDraft(world.db, world.sourceId, revision, 'one is enough', world.adminId)
    await stage([{ secondPerson: false }, { ...field('repair.seen_by'), keep: 'fingerprint' }])
    expect((await draftShown(world.db, world.sourceId)).proposed).toBeNull()
    const now = await stage([{ secondPerson: false }])
    await proposeDraft(world.db, world.sourceId, now, 'one is enough', world.adminId)
    await putInForce(world.db, world.sources, world.sourceId, now, 'agreed', approver)
  })
})

describe('versions and files', () => {
  it('compares any two and returns to one', async () => {
    const versions = await listVersions(world.db, world.sourceId)
    const first = versions.at(-1)!.version
    expect((await compareVersions(world.db, world.sourceId, first, versions[0]!.version)).length).toBeGreaterThan(0)
    const run = await returnToVersion(world.db, world.sourceId, first)
    expect(run.troubles).toEqual([])
    await put(run.edits as PlanEdit[])
    const [back, then] = await Promise.all([
      planInForce(world.db, world.sourceId),
      world.db('spoor.plan_version').where({ version: first }).first('plan'),
    ])
    expect(back.plan).toEqual(then.plan)
  })

  it('a file comes back as the same plan, and one from elsewhere names what is not here', async () => {
    const file = await writePlanFile(world.db, world.sourceId, undefined)
    expect(await readPlanFile(world.db, world.sourceId, file, world.adminId)).toMatchObject({
      edits: [],
      troubles: [],
      unknown: [],
    })
    const foreign = {
      ...file,
      source: 'elsewhere',
      types: [
        ...file.types,
        {
          schema: 'x',
          table: 'y',
          reason: 'never' as const,
          newColumns: 'wait' as const,
          onFailure: 'refuse' as const,
          asFound: 'take' as const,
          fields: [],
          guards: [],
        },
      ],
    }
    expect((await readPlanFile(world.db, world.sourceId, foreign, world.adminId)).unknown).toEqual(['the table x.y'])
  })
})

describe('putting in force', () => {
  it('says how far it is, stops when asked, and leaves the source as it was', async () => {
    const before = await planInForce(world.db, world.sourceId)
    const blocker = await world.business.connect()
    await blocker.query('begin; lock table visit in access exclusive mode')
    const work = new Work({
      db: world.db,
      databaseUrl: world.spoorUrl,
      log: silentLog,
      handlers: [new Installing(world.db, world.sources)],
    })
    await work.start()
    const { sourceId, admin } = world
    const revision = await stage([on('visit.at')])
    const attempt = installDraft(world.db, { sourceId, revision, reason: 'a reason', person: admin }).catch(
      (error: unknown) => error,
    )
    await expect
      .poll(async () => (await readInstallation(world.db, world.sourceId)).doing, { timeout: 8000 })
      .toContain('waiting for a table')
    await stopInstallation(world.db, world.sourceId)
    expect(await attempt).toMatchObject({ code: 'installation-stopped' })
    await blocker.query('rollback')
    blocker.release()
    await work.stop()
    expect(await world.db('ledger.event').where({ outcome: 'refused' }).orderBy('id', 'desc').first('words')).toEqual({
      words: 'tried to put a plan in force',
    })
    expect((await planInForce(world.db, world.sourceId)).version).toBe(before.version)
    expect((await readDraft(world.db, world.sourceId)).edits).toHaveLength(1)
    await stage([])
  })
})

describe('two Spoors', () => {
  it('neither takes from a database that the other captures in', async () => {
    await world.collect()
    const meta = (value: string) =>
      asSuperuser(world.superuserUrl, (client) =>
        client.query(`update spoor_capture.meta set value = $1 where name = 'installation'`, [value]),
      )
    const own = (await world.db('spoor.setting').where({ name: 'installation' }).first('value')).value
    await meta('another')
    await world.business.query(`update repair set note = 'theirs' where id = 9`)
    const before = (await ledger(world)).length
    await world.collect()
    expect((await ledger(world)).length).toBe(before)
    await expect(put([on('visit.at')])).rejects.toMatchObject({ code: 'source-known' })
    await stage([])
    await meta(own)
    await world.collect()
    expect((await ledger(world)).length).toBe(before + 1)
  })
})

describe('proof and coverage', () => {
  it('really tries every field, one the source works out and one it guards among them, and leaves no trace', async () => {
    const before = (await world.business.query('select * from repair order by id')).rows
    await world.collect()
    const saves = (await ledger(world)).length
    const proof = await prove(world.db, world.sources, world.sourceId, world.adminId)
    expect(proof.fields.filter((one) => one.outcome !== 'recorded')).toEqual([])
    expect(proof.recorded).toBe(5)
    expect((await world.business.query('select * from repair order by id')).rows).toEqual(before)
    await world.collect()
    expect((await ledger(world)).length).toBe(saves)
    const coverage = await readCoverage(world.db, field('repair.note').typeId)
    expect(coverage.fields.find((one) => one.fieldId === field('repair.note').fieldId)!.proof).toMatchObject({
      outcome: 'recorded',
    })
  })

  it('finds a field that is not recorded any more', async () => {
    const { rows } = await world.business.query<{ name: string }>(
      `select tgname as name from pg_trigger where tgrelid = 'repair'::regclass and tgname like 'spoor%update'`,
    )
    const owner = new pg.Client({ connectionString: world.businessAs('business_owner') })
    await owner.connect()
    await owner.query(`alter table repair disable trigger ${rows[0]!.name}`)
    const proof = await prove(world.db, world.sources, world.sourceId, world.adminId)
    const outcome = (name: string) => proof.fields.find((one) => one.fieldId === field(name).fieldId)!
    expect(outcome('repair.note')).toMatchObject({ outcome: 'missed', words: 'It was changed and no entry appeared.' })
    expect(outcome('repair_line.price').outcome).toBe('recorded')
    await owner.query(`alter table repair enable always trigger ${rows[0]!.name}`)
    await owner.end()
  })

  it('names what changes unseen, worst first: whole types, and the very fields', async () => {
    const source = await world.sources.connection(world.sourceId)
    await lookForUnseen(world.db, source, world.sourceId)
    await world.business.query(`update repair set seen_by = 'Ishbel'`)
    await world.business.query('update visit set at = at + 1')
    await lookForUnseen(world.db, source, world.sourceId)
    const spots = await blindSpots(world.db, world.sourceId)
    const at = (name: string) => spots.find((spot) => spot.typeId === field(name).typeId)
    expect(at('repair.note')).toMatchObject({ tracked: true, fieldIds: [field('repair.seen_by').fieldId] })
    expect(at('visit.at')).toMatchObject({ tracked: false })
    expect(at('repair_line.price')).toBeUndefined()
    expect(spots.map((spot) => spot.perDay)).toEqual(spots.map((spot) => spot.perDay).sort((a, b) => b - a))
  })
})

describe('describing', () => {
  it('changes what a record is called from then on, and what was captured before keeps its own', async () => {
    const typeId = field('repair.note').typeId
    await describeType(world.db, typeId, {
      name: 'mending',
      plural: 'mendings',
      area: 'Works',
      labelFields: [field('repair.priority').fieldId],
      parentTypeId: null,
      effectiveFieldId: null,
    })
    await refitCapture(world.db, world.sources, world.sourceId)
    await world.business.query(`update repair set note = 'z' where id = 2`)
    await world.collect()
    const rows = await world.db('ledger.save').where({ type_id: typeId }).orderBy('id').select('label')
    expect(rows.at(-1).label).toBe('low')
    expect(rows[0].label).not.toBe('low')
    await world.sources.refresh(world.sourceId)
    expect((await world.db('spoor.record_type').where({ id: typeId }).first('plural')).plural).toBe('mendings')
  })

  it('never lets a masked value stand in a record’s name', async () => {
    await put([{ ...field('repair.note'), masked: true }])
    const named = {
      name: 'mending',
      plural: 'mendings',
      area: 'Works',
      labelFields: [field('repair.note').fieldId],
      parentTypeId: null,
      effectiveFieldId: null,
    }
    await expect(describeType(world.db, field('repair.note').typeId, named)).rejects.toMatchObject({
      code: 'rule-broken',
    })
    await expect(stage([{ ...field('repair.priority'), masked: true }])).rejects.toMatchObject({
      code: 'plan-contradicts',
    })
    await put([{ ...field('repair.note'), masked: false }])
  })

  it('refuses a parent that nothing refers to', async () => {
    const visit = {
      name: 'visit',
      plural: 'visits',
      area: 'Works',
      labelFields: [],
      parentTypeId: field('repair.note').typeId,
      effectiveFieldId: null,
    }
    await expect(describeType(world.db, field('visit.at').typeId, visit)).rejects.toMatchObject({ code: 'rule-broken' })
  })
})

it('tracks by another source what that has, without touching this one', async () => {
  const other = await makeWorld('create table public.only (id int primary key, word text)')
  const second = await world.sources.add({
    name: 'second',
    url: urlFor(other.superuserUrl, other.names.business, 'spoor_test_source'),
    declaringLogins: [],
  })
  await world.sources.refresh(second)
  const before = await planInForce(world.db, world.sourceId)
  expect((await planInForce(world.db, second)).version).toBe(0)
  await track({ ...world, sourceId: second }, { only: ['word'] })
  expect((await planInForce(world.db, second)).version).toBe(1)
  expect((await planInForce(world.db, world.sourceId)).version).toBe(before.version)
  await world.sources.close()
  await other.close()
})
