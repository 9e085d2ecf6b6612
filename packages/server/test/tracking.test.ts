import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { ownInstallation } from '../src/ledger/installation.ts'
import { unreachable } from '../src/sources/trouble.ts'
import { attest } from '../src/capture/attest.ts'
import { installCapture } from '../src/capture/install.ts'
import { Leadership } from '../src/database/leadership.ts'
import { previewDraft } from '../src/tracking/capture-plan.ts'
import { planInForce, readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce, settleInstallations } from '../src/tracking/put-in-force.ts'
import { asSuperuser, urlFor } from './names.ts'
import { throughLossyWire } from './lossy.ts'
import { makeWorld, track, type World } from './support.ts'

let world: World
beforeAll(async () => {
  world = await makeWorld(`
    create table public.home (id int primary key, address text, rent_band text);
    create table public.unkeyed (a int, b text);
    create table public.loose (code text not null unique, note text)`)
  await asSuperuser(world.superuserUrl, (client) =>
    client.query('create table public.foreign_owned (id int primary key)'),
  )
  await world.sources.refresh(world.sourceId)
})
afterAll(() => world.close())

const types = async () =>
  Object.fromEntries(
    (
      await world.db('spoor.record_type').select<
        {
          table_name: string
          obstacle: { words: string; remedy: string } | null
          key_columns: string[]
          id: number
        }[]
      >('*')
    ).map((type) => [type.table_name, type]),
  )
const edit = async (column: string, keep: 'values' | 'off' = 'values') => {
  const field = await world
    .db('spoor.field')
    .where({ column_name: column })
    .first<{ id: number; type_id: number }>('id', 'type_id')
  return { typeId: field.type_id, fieldId: field.id, keep }
}
const revision = async () => (await readDraft(world.db, world.sourceId)).revision

describe('discovery', () => {
  it('refuses a table without a key, with the statement that would mend it', async () => {
    const { obstacle } = (await types())['unkeyed']!
    expect(obstacle!.words).toContain('public.unkeyed has no primary key')
    const owner = await world.sources.connection(world.sourceId)
    await owner.raw(obstacle!.remedy)
    await world.sources.refresh(world.sourceId)
    expect((await types())['unkeyed']!.obstacle).toBeNull()
  })

  it('takes a unique index over columns that are never null for a key', async () => {
    expect((await types())['loose']).toMatchObject({ key_columns: ['code'], obstacle: null })
  })

  it('refuses a table whose owner’s rights are missing, with the statement that would mend it', async () => {
    const { obstacle } = (await types())['foreign_owned']!
    expect(obstacle!.words).toContain('The login spoor_test_source may not create triggers')
    expect(obstacle!.remedy).toMatch(/^grant ".+" to "spoor_test_source";$/)
    const { id } = (await types())['foreign_owned']!
    const field = await world.db('spoor.field').where({ type_id: id }).first<{ id: number }>('id')
    await expect(
      stageDraft(
        world.db,
        world.sourceId,
        await revision(),
        [{ typeId: id, fieldId: field.id, keep: 'values' }],
        world.adminId,
      ),
    ).rejects.toMatchObject({ code: 'field-untrackable' })
  })

  it('keeps a field’s number through a rename and a type’s through one', async () => {
    const before = await edit('address')
    const owner = await world.sources.connection(world.sourceId)
    await owner.raw(
      'alter table public.home rename column address to postal_address; alter table public.home rename to dwelling',
    )
    await world.sources.refresh(world.sourceId)
    expect(await edit('postal_address')).toEqual(before)
    expect((await types())['dwelling']!.id).toBe(before.typeId)
    await owner.raw(
      'alter table public.dwelling rename to home; alter table public.home rename column postal_address to address',
    )
    await world.sources.refresh(world.sourceId)
  })
})

describe('the draft', () => {
  it('of two administrators at once keeps the first and tells the second', async () => {
    const at = await revision()
    await stageDraft(world.db, world.sourceId, at, [await edit('address')], world.adminId)
    await expect(
      stageDraft(world.db, world.sourceId, at, [await edit('rent_band')], world.adminId),
    ).rejects.toMatchObject({ code: 'draft-moved' })
    expect((await readDraft(world.db, world.sourceId)).edits).toEqual([await edit('address')])
  })

  it('drops edits that change nothing, and an empty one cannot be put in force', async () => {
    await stageDraft(world.db, world.sourceId, await revision(), [await edit('address', 'off')], world.adminId)
    expect((await readDraft(world.db, world.sourceId)).edits).toEqual([])
    await expect(
      putInForce(world.db, world.sources, world.sourceId, await revision(), 'nothing', world.admin),
    ).rejects.toMatchObject({ code: 'draft-empty' })
  })

  it('refuses a field that is not of the type or the source', async () => {
    const { fieldId } = await edit('address')
    await expect(
      stageDraft(
        world.db,
        world.sourceId,
        await revision(),
        [{ typeId: 9999, fieldId, keep: 'values' }],
        world.adminId,
      ),
    ).rejects.toMatchObject({ code: 'field-untrackable' })
  })

  it('is previewed as the very SQL that is run', async () => {
    await stageDraft(world.db, world.sourceId, await revision(), [await edit('address')], world.adminId)
    const first = await previewDraft(world.db, world.sources, world.sourceId)
    expect(await previewDraft(world.db, world.sources, world.sourceId)).toBe(first)
    expect(first).toContain('on "public"."home"')
    await stageDraft(world.db, world.sourceId, await revision(), [], world.adminId)
  })
})

describe('putting in force', () => {
  it('begins and ends coverage, and numbers the plans', async () => {
    await track(world, { home: ['address'] })
    const { version } = await planInForce(world.db, world.sourceId)
    await track(world, { home: ['address', 'rent_band'] })
    expect((await planInForce(world.db, world.sourceId)).version).toBe(version + 1)
    await track(world, { home: ['address'] }, 'off')
    const spells = await world
      .db('spoor.coverage as c')
      .join('spoor.field as f', 'f.id', 'c.field_id')
      .orderBy('c.id')
      .select<{ column_name: string; to_at: string | null }[]>('f.column_name', 'c.to_at')
    expect(spells.map((spell) => [spell.column_name, spell.to_at === null])).toEqual([
      ['address', false],
      ['rent_band', true],
    ])
  })

  it('changes nothing anywhere when the source refuses', async () => {
    const before = await planInForce(world.db, world.sourceId)
    await stageDraft(world.db, world.sourceId, await revision(), [await edit('note')], world.adminId)
    await asSuperuser(world.superuserUrl, (client) => client.query('alter table public.loose owner to business_app'))
    await expect(
      putInForce(world.db, world.sources, world.sourceId, await revision(), 'will fail', world.admin),
    ).rejects.toMatchObject({ code: 'field-untrackable' })
    expect((await planInForce(world.db, world.sourceId)).version).toBe(before.version)
    expect((await readDraft(world.db, world.sourceId)).edits).toHaveLength(1)
    await asSuperuser(world.superuserUrl, (client) => client.query('alter table public.loose owner to business_owner'))
    await putInForce(world.db, world.sources, world.sourceId, await revision(), 'works again', world.admin)
  })

  it('does not wait behind a long-running transaction, and the business does not wait behind it', async () => {
    const busy = await world.business.connect()
    await busy.query('begin; update home set rent_band = rent_band')
    const source = await world.sources.connection(world.sourceId)
    const attempt = installCapture(source, {
      planVersion: 99,
      owner: await ownInstallation(world.db),
      install: [],
      remove: [
        {
          typeId: (await types())['home']!.id,
          schema: 'public',
          table: 'home',
          descendants: [],
          ancestors: [],
          partitioned: false,
        },
      ],
    })
    attempt.catch(() => undefined)
    // Were the installation to wait in the lock queue, this would wait behind it until the busy one ended.
    await world.business.query('select count(*) from home')
    await busy.query('rollback')
    busy.release()
    await attempt
    await track(world, { home: ['address'] })
  })

  it.each([
    ['had been installed', true, 'in force'],
    ['had not been installed', false, 'refused'],
  ])('a plan that %s when the server stopped is settled at the next start', async (_, installed, state) => {
    const { version, plan } = await planInForce(world.db, world.sourceId)
    const latest = await world.db('spoor.plan_version').max<{ max: number }[]>('version')
    const next = Math.max(version, latest[0]!.max) + 1
    await world.db('spoor.plan_version').insert({
      source_id: world.sourceId,
      version: next,
      plan: JSON.stringify(plan),
      state: 'installing',
      reason: 'stopped in between',
      put_by: world.adminId,
    })
    const source = await world.sources.connection(world.sourceId)
    if (installed)
      await installCapture(source, {
        planVersion: next,
        owner: await ownInstallation(world.db),
        install: [],
        remove: [],
      })
    expect(await settleInstallations(world.db, world.sources)).toHaveLength(1)
    const row = await world.db('spoor.plan_version').where({ version: next }).first<{ state: string }>('state')
    expect(row.state).toBe(state)
  })

  it('a server that starts leaves alone what another is installing', async () => {
    const other = new Leadership(world.db, `installing in source ${world.sourceId}`)
    expect(await other.holds()).toBe(true)
    await world.db('spoor.plan_version').insert({
      source_id: world.sourceId,
      version: 900,
      plan: '{"types":{}}',
      state: 'installing',
      reason: 'another server',
      put_by: world.adminId,
    })
    try {
      expect(await settleInstallations(world.db, world.sources)).toEqual([])
      await expect(track(world, { home: ['address', 'rent_band'] })).rejects.toMatchObject({ code: 'source-busy' })
    } finally {
      await other.resign()
    }
    expect(await settleInstallations(world.db, world.sources)).toEqual([
      expect.stringMatching(/^plan 900 had not been installed/),
    ])
  })

  it('a plan whose commit went through and whose answer was lost is in force, without an alarm', async () => {
    await throughLossyWire(world, async (lossy) => {
      const before = (await planInForce(world.db, world.sourceId)).version
      lossy.lose()
      await track(world, { home: ['rent_band'] }, 'fingerprint')
      expect(lossy.lost()).toBe(1)
      expect((await planInForce(world.db, world.sourceId)).version).toBeGreaterThan(before)
      expect(await attest(world.db, await world.sources.connection(world.sourceId), world.sourceId)).toEqual([])
    })
  })
})

describe('a source that cannot be reached', () => {
  it('is said in words that tell what to do', async () => {
    const id = await world.sources.add({ name: 'gone', url: 'postgresql://x:y@127.0.0.1:1/none', declaringLogins: [] })
    const error = await world.sources.refresh(id).catch((caught: unknown) => caught)
    expect(unreachable(error).words).toContain('Nothing answers at the source’s address')
    const wrong = await world.sources.add({
      name: 'wrong',
      url: urlFor(world.superuserUrl, 'nowhere_at_all', 'spoor_test_source'),
      declaringLogins: [],
    })
    expect(unreachable(await world.sources.refresh(wrong).catch((caught: unknown) => caught)).words).toContain(
      'does not exist',
    )
  })

  it('keeps its address sealed', async () => {
    const rows = await world.db('spoor.source').select<{ url_sealed: Buffer }[]>('url_sealed')
    for (const row of rows) expect(row.url_sealed.toString('latin1')).not.toContain('postgresql')
  })
})
