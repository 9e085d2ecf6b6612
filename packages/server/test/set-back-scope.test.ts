import pg from 'pg'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { applyCorrection, rehearseCorrection } from '../src/corrections/carry-out.ts'
import { correctionScript, noteGivenOut } from '../src/corrections/file.ts'
import { correct, Correcting } from '../src/corrections/correcting.ts'
import { draftCorrection, type DraftWish } from '../src/corrections/draft.ts'
import { drawing } from './drawing.ts'
import type { JobHandler } from '../src/work/work.ts'
import { makeWorld, track, workOnce, type World } from './support.ts'
import { secondPerson, wholeCorrection, type WholeCorrection } from './whole-correction.ts'

let world: World
let typeId: number
let fields: Map<string, number>
beforeAll(async () => {
  world = await makeWorld(`
    create table public.flat (id int primary key, rent numeric(8,2) check (rent < 1000), note text, "or der" text)`)
  await track(world, { flat: '*' })
  typeId = (await world.db('spoor.record_type').where({ table_name: 'flat' }).first<{ id: number }>('id')).id
  const rows = await world.db('spoor.field').where({ type_id: typeId }).select('id', 'column_name')
  fields = new Map(rows.map((row: { id: number; column_name: string }) => [row.column_name, row.id]))
})
afterAll(() => world.close())

const deps = () => ({ db: world.db, sources: world.sources })
const sql = (text: string, values?: unknown[]) => world.business.query(text, values)

/** As one person, with a reason, in one transaction. */
async function as(actor: string, reason: string, ...statements: [string, unknown[]][]): Promise<void> {
  const client = await world.business.connect()
  try {
    await client.query('begin')
    await client.query(`select spoor_capture.context(actor => $1, kind => 'person', reason => $2)`, [actor, reason])
    for (const [text, values] of statements) await client.query(text, values)
    await client.query('commit')
  } finally {
    client.release()
  }
}
const table = async () =>
  (await sql('select id, rent::text, note, "or der" from flat order by id')).rows as Record<string, unknown>[]

async function drafted(wish: DraftWish): Promise<WholeCorrection> {
  const id = await draftCorrection(world, wish, world.admin)
  await rehearseCorrection(deps(), id, {}, world.admin)
  return await wholeCorrection(world, id)
}
async function applied({ id }: { id: number }): Promise<WholeCorrection> {
  await applyCorrection(deps(), id, 'set back in a test', world.admin)
  await world.collect()
  return await wholeCorrection(world, id)
}
const actorScope = async (name: string) => {
  const row = await world.db('spoor.actor').where({ name }).first<{ id: number }>('id')
  return `who=a${row.id}&what=t${typeId}`
}

describe('setting back all that a scope means', () => {
  it('leaves standing what others did since, and undoing it brings everything back', async () => {
    const draw = drawing(4310)
    for (let round = 0; round < 12; round++) {
      await sql('delete from flat')
      const [count, script] = [20, `Script ${round}`]
      await as('Petra', 'let', [
        `insert into flat select n, 100 + n, 'as let', 'x' from generate_series(1, ${count}) n`,
        [],
      ])
      // The oracle: what each value is to be, kept beside the deeds, without a look at the ledger.
      const wanted = new Map<string, unknown>()
      for (const row of await table())
        for (const column of ['rent', 'note', 'or der']) wanted.set(`${String(row['id'])}/${column}`, row[column])
      const touched = new Set<string>()
      const changed: string[] = []
      for (let deed = 0; deed < 60; deed++) {
        const [id, column] = [1 + draw(count), (['rent', 'note', 'or der'] as const)[draw(3)]!]
        const value = column === 'rent' ? `${draw(900)}.${10 + draw(90)}` : draw(6) === 0 ? null : `t${draw(5)} "'\\`
        const before = (await table()).find((row) => row['id'] === id)![column]
        if (before === value) continue
        const amok = deed < 40 ? draw(3) > 0 : false
        await as(amok ? script : 'Ines', amok ? 'amok' : 'by hand', [
          `update flat set "${column}" = $1 where id = $2`,
          [value, id],
        ])
        const place = `${id}/${column}`
        if (amok) touched.add(place)
        else wanted.set(place, value)
        changed.push(place)
      }
      // Where somebody's own value was overwritten by the script, that is what it goes back to; where theirs came last, it stays.
      await world.collect()
      const start = await table()
      const correction = await drafted({ scope: await actorScope(script) })
      expect(correction.groups.reduce((sum, group) => sum + group.values, 0)).toBe(touched.size)
      expect(correction.groups.filter((group) => group.state === 'changed-since').map((group) => group.since)).toEqual(
        correction.groups.some((group) => group.state === 'changed-since') ? [{ by: 'Ines', reason: 'by hand' }] : [],
      )
      const done = await applied(correction)
      expect(done.verdict).toMatchObject({ asAsked: correction.writes.values, otherwiseCount: 0 })
      const stands = await table()
      for (const row of stands)
        for (const column of ['rent', 'note', 'or der'])
          expect([row['id'], column, row[column]]).toEqual([
            row['id'],
            column,
            wanted.get(`${String(row['id'])}/${column}`),
          ])
      const undo = await drafted({ scope: `how=x${done.savedAs[0]}` })
      expect(undo.groups.map((group) => group.state)).toEqual(['clear'])
      await applied(undo)
      expect(await table()).toEqual(start)
    }
  })

  it('counts what was made and deleted, and says so where there is nothing else', async () => {
    await sql('delete from flat')
    await as('Maker', 'made', [`insert into flat values (1, 10, 'a', 'b'), (2, 10, 'a', 'b')`, []])
    await as('Maker', 'made', ['update flat set rent = 20 where id = 1', []])
    await as('Maker', 'made', ['delete from flat where id = 2', []])
    await world.collect()
    const scope = await actorScope('Maker')
    // One was made and is there still; the other was made and deleted again.
    expect(await drafted({ scope })).toMatchObject({ leftOut: 0, writes: { removes: 1, records: 1 } })
    const rent = `${scope.replace(/what=t\d+/, `what=f${fields.get('rent')!}`)}`
    expect(await drafted({ scope: rent })).toMatchObject({ leftOut: 3, writes: { values: 1, records: 1, removes: 0 } })
    await expect(draftCorrection(world, { scope: `${rent}&how=create` }, world.admin)).rejects.toMatchObject({
      code: 'nothing-to-revert',
      message: expect.stringContaining('only made and deleted') as string,
    })
    await expect(draftCorrection(world, { scope: 'who=zz' }, world.admin)).rejects.toMatchObject({
      code: 'bad-scope',
    })
  })

  it('takes what a group is to be, and leaves alone what the source refuses', async () => {
    await sql('delete from flat')
    await as('Petra', 'let', [`insert into flat select n, 100, 'n', 'o' from generate_series(1, 9) n`, []])
    await as('Grouper', 'amok', [`update flat set rent = 200`, []])
    await as('Ines', 'agreed', [`update flat set rent = 300 where id <= 3`, []])
    await as('Ines', 'other', [`update flat set rent = 310 where id = 4`, []])
    await world.collect()
    const one = await drafted({ scope: await actorScope('Grouper') })
    expect(
      one.groups.map(({ state, since, values, chosen }) => [state, since?.reason ?? null, values, chosen]),
    ).toEqual([
      ['changed-since', 'agreed', 3, 0],
      ['changed-since', 'other', 1, 0],
      ['clear', null, 5, 5],
    ])
    const [agreed, , clear] = one.groups
    const choices = {
      groups: [
        { group: agreed!.id, choice: 'overwrite' as const },
        { group: clear!.id, choice: 'leave' as const },
      ],
    }
    await rehearseCorrection(deps(), one.id, choices, world.admin)
    expect(await wholeCorrection(world, one.id)).toMatchObject({ writes: { values: 3, records: 3 } })
    // What nobody saw is not overwritten.
    await as('Ines', 'agreed', [`update flat set rent = 301 where id = 2`, []])
    await world.collect()
    await rehearseCorrection(deps(), one.id, {}, world.admin)
    expect(await wholeCorrection(world, one.id)).toMatchObject({ writes: { values: 2, records: 2 } })
    const gone = [{ group: '0'.repeat(32), choice: 'leave' as const }]
    await expect(rehearseCorrection(deps(), one.id, { groups: gone }, world.admin)).rejects.toMatchObject({
      code: 'not-found',
    })
  })

  it('is a script and a list for whoever owns the source, guarded like its own writes', async () => {
    await sql('delete from flat')
    const odd = `it's "odd" \\ back\nline; drop table flat; -- $$`
    await as('Petra', 'let', [`insert into flat select n, 100, $1, null from generate_series(1, 6) n`, [odd]])
    const start = await table()
    await as('Filer', 'amok', [`update flat set rent = 1, note = null, "or der" = $1`, [odd]])
    await as('Ines', 'agreed', [`update flat set rent = 7 where id = 6`, []])
    await world.collect()
    const { id } = await drafted({ scope: await actorScope('Filer') })
    const script = await correctionScript(world.db, world.sources, id)
    await noteGivenOut(world.db, id, world.adminId)
    expect(await wholeCorrection(world, id)).toMatchObject({ givenOut: { by: 'Ada Admin', done: 0, open: 17 } })
    await sql('update flat set rent = 100 where id = 4')
    await world.collect()
    expect(await wholeCorrection(world, id)).toMatchObject({ givenOut: { done: 1, open: 16 } })
    await sql('update flat set rent = 1 where id = 4')
    const owner = new pg.Client(world.businessAs('business_owner'))
    await owner.connect()
    try {
      // One that moved stops all of it, and says which.
      await as('Ines', 'other', [`update flat set note = 'hers' where id = 3`, []])
      await expect(owner.query(script)).rejects.toThrow(/record is not as it was seen: public\.flat \["3"\]/)
      await owner.query('rollback')
      await as('Ines', 'back', [`update flat set note = null where id = 3`, []])
      await owner.query(script)
    } finally {
      await owner.end()
    }
    expect(await table()).toEqual(start.map((row) => (row['id'] === 6 ? { ...row, rent: '7.00' } : row)))
    await world.collect()
    await rehearseCorrection(deps(), id, {}, world.admin)
    const done = await wholeCorrection(world, id)
    expect(done.groups.map(({ state, values }) => [state, values])).toEqual([
      ['changed-since', 1],
      ['already-so', 17],
    ])
    expect(done.givenOut).toMatchObject({ done: 17, open: 0 })
    await expect(correctionScript(world.db, world.sources, id)).rejects.toMatchObject({ code: 'nothing-to-revert' })
  })

  it('finds every record that the source refuses in one rehearsal', async () => {
    await sql('delete from flat')
    await as('Petra', 'let', [`insert into flat select n, 100, 'n', 'o' from generate_series(1, 60) n`, []])
    await as('Refused', 'amok', [`update flat set note = 'amok'`, []])
    const superuser = world.businessAs('business_owner')
    const owner = new pg.Client(superuser)
    await owner.connect()
    await owner.query(`create function public.no() returns trigger language plpgsql as
      $$ begin if new.id % 13 = 0 then raise exception 'flat % is closed', new.id; end if; return new; end $$;
      create trigger no before update on public.flat for each row execute function public.no()`)
    try {
      await world.collect()
      const correction = await drafted({ scope: await actorScope('Refused') })
      expect(correction.trial!.refused.map(({ key, words }) => [key, words]).sort()).toEqual(
        [13, 26, 39, 52].map((id) => [`["${id}"]`, `flat ${id} is closed`]),
      )
      await rehearseCorrection(deps(), correction.id, { leaveRefused: true }, world.admin)
      expect(await wholeCorrection(world, correction.id)).toMatchObject({
        writes: { values: 56 },
        trial: { refusal: null, refused: [] },
      })
    } finally {
      await owner.query('drop trigger no on public.flat')
      await owner.end()
    }
  })
})

describe('setting values to what they were at a moment', () => {
  const moment = async () => {
    const { rows } = await sql(
      `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
    )
    return (rows[0] as { at: string }).at
  }

  it('brings a whole type back to where it stood, but for what was made since', async () => {
    const draw = drawing(7)
    await sql('delete from flat')
    await as('Petra', 'let', [`insert into flat select n, 100 + n, 'n', 'o' from generate_series(1, 15) n`, []])
    const deeds = async (many: number) => {
      for (let deed = 0; deed < many; deed++)
        await as('Petra', 'work', [
          `update flat set rent = $1, note = $2 where id = $3`,
          [draw(900), `n${draw(4)}`, 1 + draw(15)],
        ])
    }
    await deeds(20)
    const at = await moment()
    const then = await table()
    await deeds(30)
    await as('Petra', 'let', [`insert into flat values (99, 1, 'new', 'new')`, []])
    await as('Petra', 'work', [`update flat set rent = 2 where id = 99`, []])
    await world.collect()
    const past = { typeId, at, fieldIds: [fields.get('rent')!, fields.get('note')!], whole: false }
    const one = await drafted({ past: { ...past, keys: ['["3"]', '["5"]'] } })
    expect(new Set(one.items.map((item) => item.key))).toEqual(new Set(['["3"]', '["5"]']))
    const all = await drafted({ past })
    expect(all.leftOut).toBe(1)
    await applied(all)
    const stands = await table()
    expect(stands.filter((row) => row['id'] !== 99)).toEqual(then)
    expect(stands.find((row) => row['id'] === 99)).toMatchObject({ rent: '2.00' })
  })

  it('brings whole records back to a moment: what was made since goes, what was deleted comes back', async () => {
    const draw = drawing(11)
    await sql('delete from flat')
    await as('Petra', 'let', [`insert into flat select n, 100 + n, 'n', null from generate_series(1, 12) n`, []])
    let [put, undone] = [0, 0]
    for (let round = 0; round < 10; round++) {
      const at = await moment()
      const then = await table()
      for (let deed = 0; deed < 25; deed++) {
        const id = 1 + draw(18)
        const deeds: [string, unknown[]][] = [
          ['insert into flat values ($1, $2, $3, null) on conflict do nothing', [id, draw(900), `m${draw(9)}`]],
          ['delete from flat where id = $1', [id]],
          ['update flat set rent = $1, "or der" = $2 where id = $3', [draw(900), draw(3) ? `o${draw(4)}` : null, id]],
          ['update flat set id = $1 where id = $2 and not exists (select from flat where id = $1)', [1 + draw(18), id]],
        ]
        await as('Petra', 'work', deeds[[0, 1, 2, 2, 0, 1, 2, 3][draw(8)]!]!)
      }
      await world.collect()
      const before = await table()
      const all = await drafted({ past: { typeId, at, fieldIds: [fields.get('rent')!], whole: true } })
      expect(all.trial!.refusal).toBeNull()
      const second = await secondPerson(world)
      await applyCorrection(deps(), all.id, 'set back in a test', second)
      await world.collect()
      // A key that is another's by now is not two records'.
      if (all.leftOut > 0) continue
      put++
      // A record that got another key keeps that; everything else of it is as it was.
      const keyless = (rows: Record<string, unknown>[]) => rows.map(({ id: _, ...row }) => JSON.stringify(row)).sort()
      expect({ round, rows: keyless(await table()) }).toEqual({ round, rows: keyless(then) })
      const { savedAs } = await wholeCorrection(world, all.id)
      const undo = await drafted({ scope: `how=x${savedAs[0]}` })
      if (undo.leftOut > 0) continue
      undone++
      await applyCorrection(deps(), undo.id, 'undone in a test', second)
      expect({ round, rows: await table() }).toEqual({ round, rows: before })
    }
    expect([put > 2, undone > 1]).toEqual([true, true])
  })

  it('follows a record through its keys', async () => {
    await sql('delete from flat')
    await as('Petra', 'let', [`insert into flat values (1, 10, 'a', 'o')`, []])
    const at = await moment()
    await as('Petra', 'work', ['update flat set rent = 20 where id = 1', []])
    await as('Petra', 'moved', ['update flat set id = 2 where id = 1', []])
    await as('Petra', 'work', ['update flat set rent = 30 where id = 2', []])
    await world.collect()
    const correction = await drafted({
      past: { typeId, at, fieldIds: [fields.get('rent')!], whole: false, keys: ['["2"]'] },
    })
    expect(correction.items).toMatchObject([{ key: '["2"]', now: '30.00', target: '10.00', state: 'clear' }])
  })

  it('refuses fields of another type', async () => {
    const past = { typeId, at: '2026-01-01T00:00:00Z', fieldIds: [987_654], whole: false }
    await expect(draftCorrection(world, { past }, world.admin)).rejects.toMatchObject({ code: 'not-found' })
  })
})

describe('a large correction, as long work', () => {
  const amok = async (rows: number): Promise<number> => {
    await sql('delete from flat')
    await as('Petra', 'let', [`insert into flat select n, 100, 'n', 'o' from generate_series(1, ${rows}) n`, []])
    await as('Large', 'amok', [`update flat set rent = 200 + id % 7`, []])
    await world.collect()
    const last = await world.db('ledger.save').orderBy('id', 'desc').first<{ id: string }>('id')
    return await draftCorrection(world, { scope: `how=x${last.id}` }, world.admin)
  }
  const rehearsal = (correctionId: number) =>
    correct(deps(), { what: 'rehearse', correctionId, person: world.admin, items: [], groups: [], leaveRefused: false })
  const application = (correctionId: number) =>
    correct(deps(), { what: 'apply', correctionId, person: world.admin, reason: 'set back in a test' })
  const works = (log: string[] = []) => {
    const correcting = new Correcting(world.db, world.sources)
    const told: JobHandler = {
      kind: 'correcting',
      perform: (job) =>
        correcting.perform({
          id: job.id,
          input: job.input,
          askedBy: job.askedBy,
          progress: async (now) => {
            log.push(`${now.doing} ${now.done}`)
            await job.progress(now)
          },
        }),
      afterwards: (db, row) => correcting.afterwards(db, row),
    }
    return workOnce(world, told)
  }

  it('is rehearsed and applied, telling how far it is, and nobody else begins meanwhile', async () => {
    const id = await amok(5_200)
    await rehearsal(id)
    expect(await wholeCorrection(world, id)).toMatchObject({ trial: null, work: { done: 0, total: 5_200 } })
    await expect(rehearsal(id)).rejects.toMatchObject({ code: 'correction-closed' })
    const log: string[] = []
    await works(log)
    expect(log).toEqual([5000, 5200].flatMap((n) => `comparing ${n}`).concat(['trying 5000', 'trying 5200']))
    expect(await wholeCorrection(world, id)).toMatchObject({
      work: null,
      cameToNothing: null,
      writes: { values: 5_200 },
    })
    await application(id)
    await works()
    expect((await sql('select distinct rent::text from flat')).rows).toEqual([{ rent: '100.00' }])
    await world.collect()
    expect(await wholeCorrection(world, id)).toMatchObject({ state: 'applied', verdict: { asAsked: 5_200 } })
  }, 120_000)

  it('leaves the source as it was where it is stopped or refused, and says so', async () => {
    const id = await amok(1500)
    await rehearsal(id)
    await works()
    const before = await table()
    await application(id)
    await world.db('spoor.job').whereNull('ended_at').update({ stop_asked: true })
    await works()
    expect(await wholeCorrection(world, id)).toMatchObject({
      state: 'draft',
      cameToNothing: expect.stringMatching(/^Stopped/) as string,
    })
    expect(await table()).toEqual(before)
    await as('Ines', 'agreed', ['update flat set rent = 7 where id = 3', []])
    await application(id)
    await works()
    expect(await wholeCorrection(world, id)).toMatchObject({
      state: 'draft',
      cameToNothing: expect.stringMatching(/changed in the source after/) as string,
    })
    await world.collect()
    await rehearsal(id)
    await works()
    expect(await wholeCorrection(world, id)).toMatchObject({ cameToNothing: null, writes: { values: 1499 } })
  }, 120_000)
})
