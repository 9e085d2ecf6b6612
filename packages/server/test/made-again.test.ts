import type pg from 'pg'
import { afterAll, beforeAll, expect, it } from 'vitest'
import { applyCorrection, rehearseCorrection } from '../src/corrections/carry-out.ts'
import { draftCorrection } from '../src/corrections/draft.ts'
import { readDraft, stageDraft } from '../src/tracking/plan-store.ts'
import { putInForce } from '../src/tracking/put-in-force.ts'
import { drawing } from './drawing.ts'
import { urlFor } from './names.ts'
import { makeWorld, track, type World } from './support.ts'
import { secondPerson, wholeCorrection } from './whole-correction.ts'

/** Two databases of one shape, or nearly: what was done on one is done again on the other. */
let world: World
let other: World
let branch: pg.Pool
let branchId: number
const schema = (more: string) => `
  create table public.band (code text primary key, rent numeric(8,2), note text default 'n'${more});
  create table public.flat (id int, "pl ace" text, band text references public.band, tags text[], primary key (id, "pl ace"));
  create table public.secret (id int primary key, word text)`
beforeAll(async () => {
  world = await makeWorld(`${schema(', only_here text')}; create table public.here_only (id int primary key)`)
  other = await makeWorld(schema(''))
  await track(world, { band: '*', flat: '*', secret: '*', here_only: '*' })
  branch = other.business
  branchId = await world.sources.add({
    name: 'branch',
    url: urlFor(world.superuserUrl, other.names.business, 'spoor_test_source'),
    declaringLogins: ['business_app'],
  })
  await track({ ...world, sourceId: branchId }, { band: '*', flat: '*', secret: '*' })
})
afterAll(async () => {
  await world.close()
  await other.close()
})

const deps = () => ({ db: world.db, sources: world.sources })
const held = async (pool: pg.Pool) => ({
  band: (await pool.query(`select code, rent, note from band order by 1`)).rows as unknown[],
  flat: (await pool.query(`select * from flat order by 1, 2`)).rows as unknown[],
})
const both = async (statement: string) => {
  await world.business.query(statement)
  await branch.query(statement)
}
const drafted = async (scope: string) => {
  const id = await draftCorrection(world, { again: { scope, sourceId: branchId } }, world.admin)
  await rehearseCorrection(deps(), id, {}, world.admin)
  return await wholeCorrection(world, id)
}

it('what a day did on one is done on the other: records, lines, values, each as it was there before', async () => {
  const second = await secondPerson(world)
  const draw = drawing(99)
  await both(`insert into band (code, rent) select 'b' || n, n * 10 from generate_series(1, 5) n`)
  await both(`insert into flat select n, 'p' || n % 2, 'b' || 1 + n % 5, '{a}' from generate_series(1, 20) n`)
  for (let round = 0; round < 5; round++) {
    await world.collect()
    const from = await world.db('ledger.save').max<{ id: string }[]>('id as id')
    const client = await world.business.connect()
    await client.query('begin')
    for (let deed = 0; deed < 12; deed++) {
      const [flat, band] = [1 + draw(25), 1 + draw(7)]
      await client.query('savepoint one')
      await client
        .query(
          [
            `insert into band (code, rent, note) values ('b${band}', ${draw(99)}, null)`,
            `insert into flat values (${flat}, 'p${flat % 2}', 'b${band}', null)`,
            `delete from flat where id = ${flat}`,
            `update flat set band = 'b${band}', tags = '{a,b${draw(3)}}' where id = ${flat}`,
            `update band set rent = ${draw(99)}, note = 'w${draw(4)}' where code = 'b${band}'`,
          ][draw(5)]!,
        )
        .catch(() => client.query('rollback to one'))
    }
    await client.query('commit')
    client.release()
    await world.collect()
    const last = await world.db('ledger.save').max<{ id: string }[]>('id as id')
    if (last[0]!.id === from[0]!.id) continue
    const draft = await drafted(`how=x${last[0]!.id}`)
    expect(draft).toMatchObject({ trial: { refusal: null }, repeats: { from: 'business', on: 'branch' } })
    await applyCorrection(deps(), draft.id, 'the same here', second)
    expect({ round, held: await held(branch) }).toEqual({ round, held: await held(world.business) })
  }
  // Nothing of it was set back where it was made.
  expect(await world.db('spoor.correction_change').count('* as count')).toEqual([{ count: '0' }])
})

it('keeps what is otherwise there, and says what has no place there', async () => {
  await both(`insert into band (code, rent) values ('z', 1)`)
  await world.business.query(`update band set rent = 2, only_here = 'x' where code = 'z'`)
  await branch.query(`update band set rent = 7 where code = 'z'`)
  await world.collect()
  const last = await world.db('ledger.save').max<{ id: string }[]>('id as id')
  const draft = await drafted(`how=x${last[0]!.id}`)
  expect(draft.items).toMatchObject([
    { state: 'changed-since', found: '1.00', now: '7.00', target: '2.00', choice: 'keep' },
  ])
  expect(draft.asked).toMatch(/Without only here of bands, which branch does not have so\.$/)
  await world.business.query('insert into here_only values (1)')
  await world.collect()
  const newest = await world.db('ledger.save').max<{ id: string }[]>('id as id')
  const again = (sourceId: number) =>
    draftCorrection(world, { again: { scope: `how=x${newest[0]!.id}`, sourceId } }, world.admin)
  await expect(again(branchId)).rejects.toMatchObject({ code: 'nothing-to-revert' })
  await expect(again(world.sourceId)).rejects.toMatchObject({ message: /on business itself/ })
  await expect(again(987)).rejects.toMatchObject({ code: 'not-found' })
})

it('writes no fingerprint and no masked value elsewhere', async () => {
  const field = await world
    .db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where({ 't.source_id': world.sourceId, 't.table_name': 'secret', 'f.column_name': 'word' })
    .first<{ id: number; type_id: number }>('f.id', 'f.type_id')
  await both(`insert into secret values (1, 'a')`)
  for (const edit of [{ keep: 'fingerprint' as const }, { keep: 'values' as const, masked: true }]) {
    const { revision } = await readDraft(world.db, world.sourceId)
    await stageDraft(
      world.db,
      world.sourceId,
      revision,
      [{ typeId: field.type_id, fieldId: field.id, ...edit }],
      world.adminId,
    )
    await putInForce(world.db, world.sources, world.sourceId, revision + 1, 'how it is kept', world.admin)
    await world.business.query(`update secret set word = word || 'b'`)
    await world.collect()
    const last = await world.db('ledger.save').max<{ id: string }[]>('id as id')
    await expect(drafted(`how=x${last[0]!.id}`)).rejects.toMatchObject({ code: 'nothing-to-revert' })
  }
})
