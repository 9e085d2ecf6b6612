import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { compareRecords } from '../src/custody/compare-records.ts'
import { compareFound } from '../src/found/compare.ts'
import { calledNow } from '../src/ledger/called.ts'
import { referencesOf } from '../src/ledger/references.ts'
import { Taking } from '../src/tracking/taking.ts'
import { asSuperuser } from './names.ts'
import { makeWorld, track, workOnce, type World } from './support.ts'

let world: World
let typeOf: Map<string, number>

const pupil = (id: number) => `insert into school.pupil values (${id}, 'Pupil ${id}')`

beforeAll(async () => {
  world = await makeWorld(`
    create schema school;
    grant usage on schema school to business_app;
    create table school.house (code text primary key, name text not null);
    create table school.teacher (id int primary key, house text not null references school.house, subject text not null);
    create table school.pupil (id int primary key, full_name text not null);
    create table school.room (id int primary key, address text not null);
    create table school.lesson (
      id int primary key, teacher_id int not null references school.teacher, room_id int not null references school.room deferrable,
      pupil_id int references school.pupil deferrable initially deferred, mark text);
    create table school.mark (
      id int primary key, lesson_id int not null references school.lesson on delete cascade,
      pupil_id int not null references school.pupil, points int);
    create table school."Pair ·" ("A" int references school.pupil, b int references school.room, note text, primary key ("A", b));
    insert into school.house values ('R', 'Red "house"'), ('B', 'Blue · house');
    insert into school.teacher values (1, 'R', 'Sums'), (2, 'B', 'History');
    insert into school.room values (5, '22 Weir Cottages'), (6, '6'), (7, '');
    grant all on all tables in schema school to business_app`)
  await world.business.query(pupil(1))
  await world.business.query(`insert into school.lesson values (10, 1, 5, 1, 'old')`)
  await track(world, {
    lesson: ['room_id', 'teacher_id', 'pupil_id', 'mark'],
    pupil: ['full_name'],
    mark: ['points', 'pupil_id'],
    'Pair ·': ['note'],
  })
  const rows = await world.db('spoor.record_type').select<{ id: number; table_name: string }[]>('id', 'table_name')
  typeOf = new Map(rows.map((row) => [row.table_name, row.id]))
})
afterAll(() => world.close())

const labels = async (table: string) =>
  await world
    .db('ledger.save')
    .where({ type_id: typeOf.get(table)! })
    .orderBy('id')
    .pluck<string[]>('label')

const lastLabel = async (table: string, sql: string) => {
  await world.business.query(sql)
  await world.collect()
  return (await labels(table)).at(-1)
}

describe('what a record is called', () => {
  it('is proposed from what it cannot be without, where nothing of its own names it', async () => {
    const named = await world
      .db('spoor.record_type')
      .orderBy('table_name')
      .select<{ table_name: string; label_columns: string[] }[]>('table_name', 'label_columns')
    expect(Object.fromEntries(named.map((row) => [row.table_name, row.label_columns]))).toEqual({
      house: ['name'],
      pupil: ['full_name'],
      room: ['id', 'address'],
      // A subject helps beside the key, so that no reference has to.
      teacher: ['id', 'subject'],
      // A teacher has a subject and a room an address; a pupil may be missing.
      lesson: ['id', 'teacher_id', 'room_id'],
      // Its parent stands above it.
      mark: ['id', 'pupil_id'],
      'Pair ·': ['A', 'b'],
    })
  })

  it('takes in what others are called, tracked or not, as it was at the time of the save', async () => {
    await track(world, { room: ['address'] })
    expect(await lastLabel('lesson', `update school.lesson set mark = 'a' where id = 10`)).toBe(
      '10 · Sums · 22 Weir Cottages',
    )
    await world.business.query(`update school.room set address = '23 Weir Cottages' where id = 5`)
    expect(await lastLabel('lesson', `update school.lesson set mark = 'b' where id = 10`)).toBe(
      '10 · Sums · 23 Weir Cottages',
    )
    expect((await labels('lesson')).slice(-2)).toEqual(['10 · Sums · 22 Weir Cottages', '10 · Sums · 23 Weir Cottages'])
    // Through what nobody tracks, to what it refers to in its turn.
    await world
      .db('spoor.record_type')
      .where({ table_name: 'teacher' })
      .update({ label_columns: '["house", "subject"]' })
    expect(
      await lastLabel('lesson', `insert into school.lesson values (11, 2, 6, null, 'x')`),
      'a name that is no more than its number stays',
    ).toBe('11 · Blue · house · History · 6')
  })

  it('knows those that came to be in the same transaction and in the same batch, by their names of that moment', async () => {
    const client = await world.business.connect()
    await client.query('begin')
    await client.query(pupil(2))
    await client.query(`insert into school.mark values (1, 10, 2, 5)`)
    await client.query(`update school.pupil set full_name = 'Renamed' where id = 2`)
    await client.query(`insert into school.mark values (2, 10, 2, 6)`)
    await client.query('commit')
    client.release()
    await world.business.query(`update school.pupil set full_name = 'Once more' where id = 2`)
    await world.business.query(`update school.mark set points = 7 where id = 1`)
    await world.collect()
    expect(await labels('mark')).toEqual(['1 · Pupil 2', '2 · Renamed', '1 · Once more'])
  })

  it('stays as it is written where nobody knows better, and is no reason to lose a save', async () => {
    const client = await world.business.connect()
    await client.query('begin; set constraints all deferred')
    await client.query(`insert into school.lesson values (12, 1, 404, null, 'x')`)
    await client.query(`insert into school.room values (404, 'Made later')`)
    await client.query('commit')
    client.release()
    await world.collect()
    // Asked of the source, since no save before tells.
    expect((await labels('lesson')).at(-1)).toBe('12 · Sums · Made later')
    expect(await lastLabel('lesson', `insert into school.lesson values (13, 1, 7, null, 'x')`)).toBe('13 · Sums · 7')
    expect(await lastLabel('Pair ·', `insert into school."Pair ·" values (1, 5, 'note')`)).toBe(
      'Pupil 1 · 23 Weir Cottages',
    )
    expect(await lastLabel('Pair ·', `delete from school."Pair ·"`)).toBe('Pupil 1 · 23 Weir Cottages')
    await asSuperuser(world.superuserUrl, (superuser) =>
      superuser.query(
        `set session_replication_role = replica; insert into school.lesson values (14, 1, 999, null, 'x')`,
      ),
    )
    await world.collect()
    expect((await labels('lesson')).at(-1)).toBe('14 · Sums · 999')
    const aside = await world.db('ledger.set_aside').count<{ count: string }[]>()
    expect(aside[0]!.count).toBe('0')
  })

  it('is what others see behind a reference to a record that nobody tracks', async () => {
    const teacher = typeOf.get('teacher')!
    const { id } = await world
      .db('spoor.field')
      .where({ type_id: typeOf.get('lesson')!, column_name: 'teacher_id' })
      .first<{ id: number }>('id')
    const names = await referencesOf(world.db, [{ fieldId: id, before: '1', after: '2' }])
    expect(names.map(({ value, label }) => [value, label]).sort()).toEqual([
      ['1', '1 · Sums'],
      ['2', 'Blue · house · History'],
    ])
    const known = await calledNow(world.db, [{ typeId: teacher, key: '["2"]' }])
    expect([...known.values()]).toEqual([{ label: 'Blue · house · History', old: false }])
  })

  it('is found with what is there when tracking begins, and the trail proves it', async () => {
    await workOnce(world, new Taking(world.db, world.sources, world.vault.derive('fingerprint')))
    const found = await world
      .db('ledger.found')
      .where({ type_id: typeOf.get('lesson')! })
      .orderBy('record_key')
      .pluck('label')
    expect(found).toEqual([
      '10 · Sums · 23 Weir Cottages',
      '11 · Blue · house · History · 6',
      '12 · Sums · Made later',
      '13 · Sums · 7',
      '14 · Sums · 999',
    ])
    expect(await compareFound(world.db)).toEqual([])
    expect(await compareRecords(world.db)).toEqual([])
  })
})
