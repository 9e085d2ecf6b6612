import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { RecordStory } from '@spoor/contract'
import { stateAt, timelineOf, type Trail } from '@spoor/core'
import { presentOf } from '../src/records/present.ts'
import { threadOf } from '../src/ledger/thread.ts'
import { toldAnew } from '../src/standing/anew.ts'
import { storyOf } from '../src/records/story.ts'
import { makeWorld, track, type World } from './support.ts'

let world: World
let typeId: number
const fieldIds: Record<string, number> = {}

const now = async (statement: string) => {
  await world.business.query(statement)
  await world.collect()
}
const story = (key: string) => storyOf(world.db, typeId, key, {}, Date.now())

beforeAll(async () => {
  world = await makeWorld(
    'create table public.item (id int primary key, name text, amount numeric, secret text); create table public.place (id int primary key deferrable, name text)',
  )
  await track(world, { item: ['name', 'amount'], place: '*' })
  typeId = (await world.db('spoor.record_type').where({ table_name: 'item' }).first<{ id: number }>('id')).id
  for (const { id, name } of await world
    .db('spoor.field')
    .where({ type_id: typeId })
    .select<{ id: number; name: string }[]>('id', 'column_name as name'))
    fieldIds[name] = id
})
afterAll(() => world.close())

const trailOf = ({ saves, coverage }: RecordStory): Trail => ({
  saves: saves.map(({ id, at, action, changes }) => ({
    id,
    at,
    action,
    changes: changes.map(({ fieldId, before, after }) => ({ fieldId, before, after, hidden: null })),
  })),
  coverage,
  found: [],
})

describe('the story of a record', () => {
  it('goes on through every key it had, and is nobody else’s who bore one of them', async () => {
    await now(`insert into item values (1, 'first', 10, null), (2, 'second', 20, null)`)
    await now(`update item set id = 100 where id = 1`)
    await now(`update item set name = 'moved' where id = 100`)
    await now(`update item set id = 1 where id = 2`)
    await now(`update item set amount = 21 where id = 1`)
    expect((await threadOf(world.db, typeId, '["100"]')).map((span) => span.key)).toEqual(['["1"]', '["100"]'])
    const [moved, other] = [await story('["100"]'), await story('["1"]')]
    expect(moved.saves.map((save) => save.label)).toEqual(['first', 'first', 'moved'])
    expect(moved.record).toMatchObject({ key: '["100"]', label: 'moved', formerKeys: ['["1"]'], deleted: false })
    expect(other.saves.map((save) => save.label)).toEqual(['second', 'second', 'second'])
    expect(other.record.formerKeys).toEqual(['["2"]'])
    // By a key that was given up and that nobody has now.
    expect((await story('["2"]')).record.key).toBe('["1"]')
  })

  it('is not that of another who left the key before it was made', async () => {
    await now(`insert into item values (50, 'former', 1, null)`)
    await now(`update item set id = 51 where id = 50`)
    await now(`insert into item values (50, 'latter', 2, null)`)
    await now(`update item set id = 52 where id = 50`)
    expect((await story('["52"]')).saves.map((save) => save.label)).toEqual(['latter', 'latter'])
    expect((await story('["51"]')).saves.map((save) => save.label)).toEqual(['former', 'former'])
    expect((await story('["50"]')).record.key).toBe('["52"]')
  })

  it('is known as it was after any save, whatever became of its key later', async () => {
    await now(`insert into item values (60, 'kept', 7, null)`)
    await now(`update item set amount = 8 where id = 60`)
    await now(`update item set id = 61 where id = 60`)
    await now(`update item set id = 60 where id = 61`)
    const { saves } = await story('["60"]')
    const stood = await Promise.all(
      saves.map(
        async ({ id, key }) => (await toldAnew(world.db, typeId, key, id))?.fields.get(fieldIds['amount']!)?.value,
      ),
    )
    expect(stood).toEqual(['7', '8', '8', '8'])
  })

  it('is followed through an exchange of keys in one statement', async () => {
    const { id } = await world.db('spoor.record_type').where({ table_name: 'place' }).first<{ id: number }>('id')
    const labels = async (key: string) =>
      (await storyOf(world.db, id, key, {}, Date.now())).saves.map((save) => [save.label, save.key])
    await now(`insert into place values (1, 'ann'), (2, 'bea')`)
    await now(`update place set id = 3 - id`)
    await now(`update place set name = name || '!'`)
    expect(await labels('["1"]')).toEqual([
      ['bea', '["2"]'],
      ['bea', '["1"]'],
      ['bea!', '["1"]'],
    ])
    expect(await labels('["2"]')).toEqual([
      ['ann', '["1"]'],
      ['ann', '["2"]'],
      ['ann!', '["2"]'],
    ])
    await now(`update place set id = 3 - id`)
    expect((await labels('["1"]')).map(([label]) => label)).toEqual(['ann', 'ann', 'ann!', 'ann!'])
    await now(`update place set id = 9 where id = 1`)
    expect((await labels('["9"]')).map(([label]) => label)).toEqual(['ann', 'ann', 'ann!', 'ann!', 'ann!'])
    expect((await labels('["2"]')).map(([label]) => label)).toEqual(['bea', 'bea', 'bea!', 'bea!'])
  })

  it('tells what it held at any moment as the table held it then', async () => {
    await now(`insert into item values (7, 'a', 1, null)`)
    const seen: { at: string; row: { name: string | null; amount: string | null } | undefined }[] = []
    const look = async () => {
      const { rows } = await world.business.query<{ name: string | null; amount: string | null; at: Date }>(
        `select name, amount::text, clock_timestamp() as at from item where id = 7`,
      )
      const { rows: clock } = await world.business.query<{ at: string }>(
        `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
      )
      seen.push({ at: clock[0]!.at, row: rows[0] && { name: rows[0].name, amount: rows[0].amount } })
    }
    await look()
    for (const statement of [
      `update item set name = 'b' where id = 7`,
      `update item set amount = null where id = 7`,
      `update item set name = null, amount = 5 where id = 7`,
      `delete from item where id = 7`,
      `insert into item values (7, 'again', 3, null)`,
    ]) {
      await now(statement)
      await look()
    }
    const trail = trailOf(await story('["7"]'))
    for (const { at, row } of seen)
      for (const [name, id] of [
        ['name', fieldIds['name']!],
        ['amount', fieldIds['amount']!],
      ] as const) {
        const held = stateAt(trail, [id], at).get(id)!
        expect([at, name, held]).toEqual([at, name, row ? { state: 'value', value: row[name] } : { state: 'absent' }])
      }
  })

  it('says that a field was not tracked, and what was there in a gap is unknown', async () => {
    await now(`insert into item values (8, 'x', 1, 'hidden')`)
    await track(world, { item: ['secret'] })
    await now(`update item set secret = 'shown' where id = 8`)
    const timeline = timelineOf(trailOf(await story('["8"]')), fieldIds['secret']!)
    expect(timeline.map((segment) => segment.holding)).toEqual([
      { state: 'unknown', why: 'untracked' },
      { state: 'absent' },
      { state: 'unknown', why: 'untracked' },
      { state: 'value', value: 'hidden' },
      { state: 'value', value: 'shown' },
    ])
  })

  it('is completed by what the source holds now, told apart from what no save explains', async () => {
    await now(`insert into item values (30, 'thirty', 3, 's')`)
    const present = () => presentOf(world.db, world.sources, typeId, '["30"]')
    const value = async (name: string) => (await present()).values.find((one) => one.fieldId === fieldIds[name])?.value
    expect(await present()).toMatchObject({
      there: true,
      waiting: false,
      lastSaveId: (await story('["30"]')).saves.at(-1)!.id,
    })
    expect([await value('name'), await value('amount')]).toEqual(['thirty', '3'])
    // Captured and not yet collected: it may not be held against the trail.
    await world.business.query(`update item set amount = 4 where id = 30`)
    expect((await present()).waiting).toBe(true)
    await world.collect()
    expect((await present()).waiting).toBe(false)
    expect((await presentOf(world.db, world.sources, typeId, '["31"]')).there).toBe(false)
    for (const key of ['["x"]', '["1","2"]', '{}', 'nonsense', '["99999999999999999999"]'])
      await expect(presentOf(world.db, world.sources, typeId, key)).rejects.toMatchObject({ code: 'not-found' })
  })

  it('is not there for a record that never was', async () => {
    await expect(story('["4711"]')).rejects.toMatchObject({ code: 'not-found' })
    await expect(story('x'.repeat(1000))).rejects.toMatchObject({ code: 'not-found' })
  })
})
