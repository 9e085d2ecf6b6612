import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { settle } from '../src/alarms/settle.ts'
import type { Mismatch } from '../src/alarms/mismatch.ts'
import { compareFacts } from '../src/evidence/compare.ts'
import { covered, isGroup } from '../src/evidence/content.ts'
import { evidenceKey } from '../src/evidence/evidence.ts'
import { urlFor } from './names.ts'
import { makeWorld, track, type World } from './support.ts'

/** What people rely on beside saves, and a superuser of Spoor's database who alters it. */
let world: World
let superuser: pg.Client

const check = () => compareFacts(world.db, evidenceKey(world.vault))
const wordsOf = (found: readonly Mismatch[]) => found.map(({ words }) => words)

/** Alters something as somebody does who does not want it to be noted: no trigger runs. */
async function quietly(statement: string, values?: unknown[]): Promise<void> {
  await superuser.query('set session_replication_role = replica')
  try {
    await superuser.query(statement, values)
  } finally {
    await superuser.query('set session_replication_role = origin')
  }
}

/** A row for whatever nobody has written yet, by the same hand as everything else. */
async function fill(): Promise<void> {
  const { db, adminId, sourceId } = world
  const [actor] = await db('spoor.actor')
    .insert({
      kind: 'person',
      name: 'I. Coombe',
      login: 'icoombe',
      unit: 'Rents',
      joined_on: '2020-01-01',
      left_on: '2030-01-01',
      directory_id: 'x1',
    })
    .returning<{ id: number }[]>('id')
  const type = await db('spoor.record_type').first<{ id: number }>('id')
  const field = await db('spoor.field').first<{ id: number }>('id')
  await db('spoor.former_name').insert({ kind: 'person', name: 'I. Combe', actor_id: actor!.id })
  await db('spoor.identity').insert({
    source_id: sourceId,
    by: 'login',
    said: 'ic',
    actor_id: actor!.id,
    from_on: '2020-01-01',
  })
  await db('spoor.note').insert({ save_id: 1, text: 'asked about it', by: adminId })
  await db('spoor.mark').insert({ save_id: 1, mark: 'flagged', by: adminId })
  const [assignment] = await db('spoor.assignment')
    .insert({ assigned_to: adminId, note: 'look', by: adminId, due_on: '2026-12-01' })
    .returning<{ id: number }[]>('id')
  await db('spoor.assignment_save').insert({ assignment_id: assignment!.id, save_id: 1 })
  const [question] = await db('spoor.question')
    .insert({
      actor_id: actor!.id,
      text: 'why?',
      by: adminId,
      answer: 'so',
      answered_by: adminId,
      answered_at: db.fn.now(),
    })
    .returning<{ id: number }[]>('id')
  await db('spoor.question_save').insert([
    { question_id: question!.id, save_id: 1 },
    { question_id: question!.id, save_id: 2 },
  ])
  const [file] = await db('spoor.case_file')
    .insert({
      question: 'who paid?',
      owner_id: adminId,
      opened_by: adminId,
      state: 'closed',
      finding: 'nobody',
      closed_by: adminId,
      closed_at: db.fn.now(),
    })
    .returning<{ id: number }[]>('id')
  await db('spoor.case_item').insert({
    case_id: file!.id,
    save_id: 1,
    gathered_by: adminId,
    removed_by: adminId,
    removed_at: db.fn.now(),
    removed_why: 'not it',
  })
  await db('spoor.case_entry').insert({ case_id: file!.id, kind: 'finding', text: 'nobody', by: adminId })
  const [witness] = await db('spoor.witness').insert({ kind: 'folder', place: '/x' }).returning<{ id: number }[]>('id')
  await db('spoor.witnessed').insert({ witness_id: witness!.id, seal_number: 1, answer: Buffer.from('x') })
  await db('spoor.receiver').insert({
    name: 'it',
    url_sealed: Buffer.from('x'),
    place: 'x',
    secret_sealed: Buffer.from('x'),
    older_sealed: Buffer.from('x'),
    older_until: db.fn.now(),
    inside: true,
    made_by: adminId,
    ended_at: db.fn.now(),
  })
  await db('spoor.watch').insert({
    scope: '',
    fires: '{}',
    speaks: '{}',
    quiet: '{}',
    zone: 'UTC',
    people: [adminId],
    mail: ['x'],
    receivers: [1],
    owner_id: adminId,
    state_why: 'x',
    removed_at: db.fn.now(),
    until_save: 1,
  })
  await db('spoor.regular_pack').insert({
    wish: '{}',
    rhythm: '{}',
    mail: ['x'],
    owner_id: adminId,
    ended_at: db.fn.now(),
    ended_by: adminId,
  })
  await db('spoor.named_scope').insert({ name: 'mine', scope: 'a=1', owner: adminId })
  const [story] = await db('spoor.story')
    .insert({
      story: 's1',
      reasons: '[]',
      saves: 1,
      records: 1,
      from_at: db.fn.now(),
      to_at: db.fn.now(),
      actors: [1],
      types: [1],
    })
    .returning<{ id: number }[]>('id')
  await db('spoor.story_save').insert({ story_id: story!.id, save_id: 1 })
  await db('spoor.application').insert({
    name: 'desk',
    origin: 'https://desk.example',
    key_hash: 'h',
    made_by: adminId,
    ended_at: db.fn.now(),
  })
  const [baseline] = await db('spoor.baseline')
    .insert({
      name: 'Year end',
      type_id: type!.id,
      at: db.fn.now(),
      field_ids: [field!.id],
      meant: 'all',
      whole: true,
      made_by: adminId,
      why: 'audit',
      state: 'kept',
      records: 1,
      digest: 'd',
    })
    .returning<{ id: number }[]>('id')
  await db('spoor.baseline_signature').insert([
    { baseline_id: baseline!.id, person_id: adminId, meaning: 'checked', note: 'n' },
    { baseline_id: baseline!.id, person_id: adminId, meaning: 'approved' },
  ])
  await db('spoor.difference').insert({
    type_id: type!.id,
    record_key: '["1"]',
    label: 'one',
    field_id: field!.id,
    kind: 'value',
    trail: 'a',
    source: 'b',
    after_at: db.fn.now(),
    seen_at: db.fn.now(),
    over_at: db.fn.now(),
    settled_by: adminId,
    settled_at: db.fn.now(),
    settled_why: 'so',
  })
  const [correction] = await db('spoor.correction')
    .insert({
      source_id: sourceId,
      state: 'applied',
      drafted_by: adminId,
      applied_by: adminId,
      reason: 'wrong',
      trial: '{}',
      asked: 'all',
    })
    .returning<{ id: number }[]>('id')
  const [item] = await db('spoor.correction_item')
    .insert({
      correction_id: correction!.id,
      type_id: type!.id,
      record_key: '["1"]',
      label: 'one',
      field_id: field!.id,
      save_id: 1,
      found: 'a',
      now: 'b',
      target: 'a',
      state: 'clear',
      why: 'so',
    })
    .returning<{ id: number }[]>('id')
  await db('spoor.correction_change').insert({
    correction_id: correction!.id,
    save_id: 1,
    field_id: field!.id,
    item_id: item!.id,
  })
  await db('spoor.erasure').insert({
    save_id: 1,
    type_id: type!.id,
    record_key: '["1"]',
    label: 'one',
    field_id: field!.id,
    reach: 'change',
    reason: 'law',
    asked_by: adminId,
  })
  const [ledgerCheck] = await db('spoor.ledger_check')
    .insert({ total: 1, asked_by: adminId, trouble: 'stopped' })
    .returning<{ id: number }[]>('id')
  await db('spoor.alarm').insert({
    source_id: sourceId,
    code: 'capture-altered',
    check_id: ledgerCheck!.id,
    place: 'somewhere',
    words: 'altered',
    save_id: 1,
    field_id: 1,
    stored: 'a',
    expected: 'b',
    after_seal: 1,
    before_seal: 2,
  })
  await db('ledger.signing_key').insert({ number: 1, since: db.fn.now(), line: 'spoor+1+x', note: 'n' })
  const [proof] = await db('spoor.proof')
    .insert({ source_id: sourceId, plan_version: 1, by: adminId })
    .returning<{ id: number }[]>('id')
  await db('spoor.proof_field').insert({
    proof_id: proof!.id,
    type_id: type!.id,
    field_id: field!.id,
    outcome: 'recorded',
    words: 'it did',
  })
}

beforeAll(async () => {
  world = await makeWorld('create table public.item (id int primary key, name text)')
  await track(world, { item: '*' })
  superuser = new pg.Client({ connectionString: urlFor(world.superuserUrl, world.names.spoor) })
  await superuser.connect()
  await fill()
  // Whoever may alter a row may also take away what keeps it whole.
  await superuser.query(`alter table spoor.case_file drop constraint case_file_check, drop constraint case_file_state_check;
    alter table spoor.case_item drop constraint case_item_check, drop constraint case_item_check1;
    alter table spoor.case_entry drop constraint case_entry_kind_check`)
})
afterAll(async () => {
  await superuser.end()
  await world.close()
})

/** Another value of a column that the table's constraints let stand. */
const others: Readonly<Record<string, string>> = {
  'spoor.mark.mark': `'reviewed'`,
  'spoor.plan_version.state': `'superseded'`,
  'spoor.correction.state': `'draft'`,
  'spoor.erasure.state': `'refused'`,
  'spoor.erasure.reach': `'record'`,
  'spoor.identity.by': `'name'`,
  'spoor.proof_field.outcome': `'missed'`,
  'spoor.correction_item.act': `case "act" when 'set' then 'remove' else 'set' end`,
  'spoor.question.answered_at': `"answered_at" + interval '1 second'`,
}

function otherOf(table: string, column: string, type: string): string {
  const name = `"${column}"`
  const of = (value: string) => `coalesce(${value}, ${type === 'text' ? `'x'` : 'null'})`
  const known = others[`${table}.${column}`]
  if (known) return known
  if (type === 'text') return of(`${name} || 'x'`)
  if (type === 'boolean') return `not ${name}`
  if (type === 'jsonb') return `'["x"]'`
  if (type === 'bytea') return `${name} || '\\x00'::bytea`
  if (type === 'integer[]') return `${name} || 7`
  if (type === 'text[]') return `${name} || array['x']`
  if (type === 'date') return `coalesce(${name}, '2020-01-01') + 1`
  if (type.startsWith('timestamp')) return `coalesce(${name}, now()) + interval '1 microsecond'`
  return `coalesce(${name}, 0) + 1000`
}

describe('what no leaf covers', () => {
  it('is as Spoor wrote it while nobody else writes', async () => {
    expect(await check()).toEqual([])
    const { rows } = await superuser.query<{ count: number }>('select count(*)::int as count from spoor.touched')
    expect(rows[0]!.count).toBe(0)
    for (const { table } of covered)
      expect((await superuser.query(`select from ${table} limit 1`)).rowCount, `a row in ${table}`).toBe(1)
  })

  it('is found out when any column of any table is altered, with triggers off and nothing noted', async () => {
    const { rows } = await superuser.query<{ name: string; type: string }>(
      `select a.attrelid::regclass || '.' || a.attname as name, format_type(a.atttypid, null) as type from pg_attribute a where a.attnum > 0 and a.attrelid = any($1::regclass[])`,
      [covered.map(({ table }) => table)],
    )
    const types = new Map(rows.map(({ name, type }) => [name, type]))
    const most = Math.max(...covered.map((one) => one.columns.length))
    for (let at = 0; at < most; at++) {
      const due = covered.filter((one) => at < one.columns.length)
      for (const { table, columns } of due) {
        const column = columns[at]!
        const other = otherOf(table, column, types.get(`${table}.${column}`)!)
        const [kept, altered] = [`"kept ${table}"`, `"altered ${table}"`]
        await superuser.query(
          `create temp table ${kept} as select * from ${table}; create temp table ${altered} as select * from ${table}`,
        )
        await superuser.query(
          `update ${altered} set "${column}" = ${other} where ctid = (select ctid from ${altered} limit 1)`,
        )
        await quietly(
          `delete from ${table}; insert into ${table} overriding system value select * from ${altered}; drop table ${altered}`,
        )
      }
      const found = new Set((await check()).map(({ place }) => place.split(' ')[1]!))
      // Where the state of a correction was altered, its values are not those of an applied one any more.
      const after = due.flatMap((one) => [
        one.table,
        ...(!isGroup(one) && one.columns[at] === 'state' ? (one.decides ?? []) : []),
      ])
      expect([...found].sort(), `column ${at + 1}`).toEqual([...new Set(after)].sort())
      for (const { table } of due)
        await quietly(
          `delete from ${table}; insert into ${table} overriding system value select * from "kept ${table}"; drop table "kept ${table}"`,
        )
    }
    expect(await check()).toEqual([])
  })

  it('is found out when a row is put in or taken away, of a table or of a group', async () => {
    await quietly(`insert into spoor.note (save_id, text, by) values (2, 'forged', ${world.adminId})`)
    await quietly(`delete from spoor.question_save where save_id = 2`)
    await quietly(`delete from spoor.alarm`)
    await quietly(`insert into spoor.assignment_save values (1, 99)`)
    expect(wordsOf(await check())).toEqual([
      'The note 2 was put in by something other than Spoor.',
      'The alarm 1 was taken away by something other than Spoor.',
      'The list of saves of assignment 1 is not as Spoor wrote it.',
      'The list of saves of question 1 is not as Spoor wrote it.',
    ])
    await quietly(`delete from spoor.note where text = 'forged'; delete from spoor.assignment_save where save_id = 99`)
    await quietly(`insert into spoor.question_save values (1, 2)`)
    await world.db('spoor.alarm').insert({ code: 'capture-altered', place: 'again', words: 'again' })
  })

  it('tells who wrote it where that was noted, also of what was put back', async () => {
    await superuser.query(`update spoor.actor set name = 'Somebody else' where name = 'I. Coombe'`)
    const login = (await superuser.query<{ name: string }>('select session_user as name')).rows[0]!.name
    const told = new RegExp(`^The entry of the directory \\d+ is not as Spoor wrote it \\(${login}, .* UTC\\)\\.$`)
    expect(wordsOf(await check())).toContainEqual(expect.stringMatching(told))
    await superuser.query(`update spoor.actor set name = 'I. Coombe' where name = 'Somebody else'`)
    expect(wordsOf(await check())).toContainEqual(
      expect.stringMatching(/was written by something other than Spoor, and is again/),
    )
    const { rows } = await superuser.query<{ id: number }>(
      `insert into spoor.alarm (code, place, words) select 'ledger-altered', 'fact spoor.actor [' || id || ']', 'told' from spoor.actor where name = 'I. Coombe' returning id`,
    )
    await settle(world.db, rows[0]!.id, world.adminId, 'put back')
    expect(wordsOf(await check())).not.toContainEqual(expect.stringMatching(/directory/))
  })

  it('is not washed clean when Spoor writes the row next', async () => {
    await quietly(`update spoor.actor set unit = 'Elsewhere' where name = 'I. Coombe'`)
    await world.db('spoor.actor').where({ name: 'I. Coombe' }).update({ left_on: '2031-01-01' })
    const told: string[] = await world.db('spoor.alarm').whereNull('settled_at').pluck('words')
    expect(told).toContainEqual(
      expect.stringMatching(/entry of the directory \d+ is not as Spoor wrote it before it was written last/),
    )
  })

  it('does not believe an old fact that is said again, nor one of another row', async () => {
    const note = await world.db('spoor.note').first<{ id: string }>('id')
    await world.db('spoor.note').where(note).update({ text: 'second' })
    await quietly(`update spoor.note set text = 'asked about it' where id = ${note.id}`)
    await superuser.query(
      `insert into ledger.event (kind, outcome, words) select kind, outcome, words from ledger.event where kind = 'spoor.note' order by id limit 1`,
    )
    expect(wordsOf(await check())).toContainEqual(`The note ${note.id} is not as Spoor wrote it.`)
  })

  it('is kept by a statement outside a transaction, by one inside, and by none that was rolled back', async () => {
    const count = async () =>
      Number(
        (await world.db('ledger.event').where({ kind: 'spoor.setting' }).count<{ count: string }[]>('* as count'))[0]!
          .count,
      )
    const before = await count()
    await world.db('spoor.setting').insert({ name: 'one', value: '1' })
    await world.db.transaction((trx) => trx('spoor.setting').insert({ name: 'two', value: '2' }))
    await world.db.transaction(async (trx) => {
      await trx('spoor.setting').where({ name: 'two' }).update({ value: '3' })
      await trx.transaction((inner) => inner('spoor.setting').where({ name: 'two' }).update({ value: '4' }))
    })
    const failed = world.db.transaction(async (trx) => {
      await trx('spoor.setting').insert({ name: 'three', value: '3' })
      throw new Error('on purpose')
    })
    await expect(failed).rejects.toThrow('on purpose')
    // A value that is written again is nothing new.
    await world.db('spoor.setting').where({ name: 'two' }).update({ value: '4' })
    expect((await count()) - before).toBe(3)
    expect((await check()).filter(({ place }) => place.includes('setting'))).toEqual([])
  })

  it('finds itself whole after many hands wrote the same rows at once', async () => {
    await Promise.all(
      Array.from({ length: 40 }, (_, n) =>
        world
          .db('spoor.setting')
          .insert({ name: `of ${n % 5}`, value: JSON.stringify(n) })
          .onConflict('name')
          .merge(),
      ),
    )
    expect((await check()).filter(({ place }) => place.includes('setting'))).toEqual([])
  })
})
