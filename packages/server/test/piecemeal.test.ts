import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { applyPiecemeal } from '../src/corrections/piecemeal.ts'
import { markWritten, noteAttempt, settleAttempts, type Attempt } from '../src/corrections/attempt.ts'
import { rehearseCorrection } from '../src/corrections/carry-out.ts'
import { draftCorrection } from '../src/corrections/draft.ts'
import { readItems } from '../src/corrections/store.ts'
import { Stopped } from '../src/work/work.ts'
import { drawing } from './drawing.ts'
import { makeWorld, track, type World } from './support.ts'
import { secondPerson, wholeCorrection } from './whole-correction.ts'

const many = 1300
let world: World
beforeAll(async () => {
  world = await makeWorld(`
    create table home (id int primary key, rent numeric(8,2), deposit numeric(8,2), strict boolean not null default false, constraint modest check (not strict or rent > 200));
    create table visit (id int primary key, home_id int not null references home, note text);
    create unique index visit_note on visit (note)`)
  await track(world, { home: '*', visit: '*' })
  await world.business.query(
    `insert into home (id, rent, deposit) select n, 100 + n % 50, 10 from generate_series(1, ${many}) n`,
  )
  await world.collect()
})
afterAll(() => world.close())

const deps = () => ({ db: world.db, sources: world.sources })
const rents = async () =>
  new Map(
    (await world.business.query<{ id: number; rent: string }>('select id, rent from home')).rows.map((row) => [
      row.id,
      row.rent,
    ]),
  )
const first = (id: number) => `${100 + (id % 50)}.00`
const idOf = (key: string) => Number((JSON.parse(key) as string[])[0])

/** Every rent raised in one go, and a draft that sets all of it back. */
async function uplifted(): Promise<number> {
  await world.business.query('update home set rent = 1000 + id')
  return await draftOfLast()
}

async function draftOfLast(): Promise<number> {
  await world.collect()
  const [last] = await world.db('ledger.save').max<{ id: string }[]>('id as id')
  const id = await draftCorrection(deps(), { scope: `how=x${last!.id}` }, world.admin)
  await rehearseCorrection(deps(), id, {}, world.admin)
  return id
}

describe('a correction applied record by record', () => {
  it(
    'writes all but what the source refuses, somebody moved or holds, and drafts that anew',
    { timeout: 90_000 },
    async () => {
      const drawn = drawing(20_261_201)
      const some = (share: number) =>
        new Set(Array.from({ length: many }, (_, at) => at + 1).filter(() => drawn(share) === 0))
      const [strict, moved] = [some(150), some(120)]
      const held = 1 + drawn(many)
      strict.delete(held)
      moved.delete(held)
      const id = await uplifted()
      await world.business.query('update home set strict = true where id = any($1)', [[...strict]])
      await world.business.query('update home set rent = 7 where id = any($1) and not strict', [[...moved]])
      const other = await world.business.connect()
      await other.query('begin')
      await other.query('select from home where id = $1 for update', [held])
      const second = await secondPerson(world)
      const restId = await applyPiecemeal(deps(), id, 'the wrong uplift', second)
      await other.query('rollback')
      other.release()
      const left = new Set<number>()
      for (const [home, rent] of await rents()) {
        const isLeft = strict.has(home) || moved.has(home) || home === held
        if (isLeft) left.add(home)
        const expected =
          strict.has(home) || home === held ? `${1000 + home}.00` : moved.has(home) ? '7.00' : first(home)
        expect([home, rent]).toEqual([home, expected])
      }
      await world.collect()
      const applied = await wholeCorrection(world, id)
      const rest = await wholeCorrection(world, restId!)
      expect(applied).toMatchObject({
        state: 'applied',
        piecemeal: { restId, records: left.size },
        reason: 'the wrong uplift',
      })
      expect(applied.verdict).toMatchObject({ asAsked: many - left.size, otherwiseCount: 0 })
      const unwritten = applied.items.filter((item) => !item.written)
      expect(new Set(unwritten.map((item) => idOf(item.key)))).toEqual(left)
      for (const { key, why } of unwritten)
        expect([key, why]).toEqual([
          key,
          idOf(key) === held
            ? 'somebody else held it for more than three seconds'
            : strict.has(idOf(key))
              ? expect.stringContaining('modest')
              : 'somebody changed it after the rehearsal',
        ])
      expect(new Set(rest.items.map((item) => idOf(item.key)))).toEqual(left)
      expect(rest).toMatchObject({ state: 'draft', restOf: id })
      // Slices of 500 and those that went by halves, each a transaction.
      expect(applied.savedIn.length).toBeGreaterThanOrEqual(3)
      const undo = await draftCorrection(
        deps(),
        { scope: `how=${applied.savedIn.map((save) => `x${save}`).join()}` },
        world.admin,
      )
      expect((await readItems(world.db, undo)).length).toBe(many - left.size)

      // And the rest, once nothing stands against it.
      await world.business.query('update home set strict = false')
      await world.collect()
      await rehearseCorrection(deps(), restId!, {}, world.admin)
      const again = await wholeCorrection(world, restId!)
      const changed = again.items.filter(({ state }) => state === 'changed-since')
      expect(new Set(changed.map(({ key }) => idOf(key)))).toEqual(
        new Set([...moved].filter((home) => !strict.has(home))),
      )
      await rehearseCorrection(
        deps(),
        restId!,
        { items: new Map(changed.map((item) => [item.id, 'overwrite'])) },
        world.admin,
      )
      expect(await applyPiecemeal(deps(), restId!, 'the rest of it', second)).toBeNull()
      for (const [home, rent] of await rents()) expect([home, rent]).toEqual([home, first(home)])
    },
  )

  it('is stopped between two slices: what is written stays, and the rest is drafted', async () => {
    const id = await uplifted()
    let looks = 0
    const job = {
      progress: async ({ done }: { done?: number | bigint }) => {
        if (++looks === 2) {
          expect(done).toBe(500)
          throw new Stopped('enough')
        }
      },
    }
    const restId = await applyPiecemeal(deps(), id, 'stopped half-way', await secondPerson(world), job)
    const back = [...(await rents())].filter(([home, rent]) => rent === first(home)).map(([home]) => home)
    expect(back).toHaveLength(500)
    const left = (await readItems(world.db, id)).filter(({ written }) => !written)
    expect(new Set(left.map(({ why }) => why))).toEqual(new Set(['it was stopped before it came to this record']))
    const rest = await readItems(world.db, restId!)
    expect(rest.map((item) => idOf(item.key)).sort((a, b) => a - b)).toEqual(
      [...(await rents()).keys()].filter((home) => !back.includes(home)).sort((a, b) => a - b),
    )
    await rehearseCorrection(deps(), restId!, {}, world.admin)
    await applyPiecemeal(deps(), restId!, 'gone on with', await secondPerson(world))
    for (const [home, rent] of await rents()) expect([home, rent]).toEqual([home, first(home)])
  })

  it('stands as a draft where not one record could be written', async () => {
    const id = await uplifted()
    await world.business.query('update home set strict = true')
    const second = await secondPerson(world)
    await expect(applyPiecemeal(deps(), id, 'in vain', second)).rejects.toMatchObject({
      code: 'nothing-to-revert',
      message: expect.stringContaining('modest') as string,
    })
    const after = await wholeCorrection(world, id)
    expect(after).toMatchObject({ state: 'draft', piecemeal: null })
    expect(after.items.every(({ why, written }) => why === null && !written)).toBe(true)
    await world.business.query('update home set strict = false')
    await rehearseCorrection(deps(), id, {}, world.admin)
    await applyPiecemeal(deps(), id, 'now it goes', second)
    for (const [home, rent] of await rents()) expect([home, rent]).toEqual([home, first(home)])
  })

  it('makes a record anew before what refers to it, and leaves only what is refused', async () => {
    await world.business.query(`insert into home (id, rent) select n, 5 from generate_series(9001, 9003) n`)
    await world.business.query(
      `insert into visit (id, home_id, note) select n, n, 'visit ' || n from generate_series(9001, 9003) n`,
    )
    await world.collect()
    await world.business.query('delete from visit where id > 9000; delete from home where id > 9000')
    const id = await draftOfLast()
    await world.business.query(`insert into visit (id, home_id, note) values (1, 1, 'visit 9002')`)
    const restId = await applyPiecemeal(deps(), id, 'deleted by mistake', await secondPerson(world))
    const { rows } = await world.business.query(
      'select v.id, v.note from visit v join home h on h.id = v.home_id where v.id > 9000 order by 1',
    )
    expect(rows).toEqual([9001, 9003].map((n) => ({ id: n, note: `visit ${n}` })))
    expect(new Set((await readItems(world.db, restId!)).map(({ key }) => key))).toEqual(new Set(['["9002"]']))
  })

  it.each(['commit', 'rollback'] as const)('is found out after its server died at a %s', async (end) => {
    await world.business.query('update home set deposit = 99 where id <= 4')
    const id = await draftOfLast()
    const items = await readItems(world.db, id)
    const attempt: Attempt = {
      by: world.admin.id,
      reason: 'left',
      transaction: null,
      written: [items[0]!.id],
      overridden: [],
      piecemeal: true,
    }
    const source = await world.sources.connection(world.sourceId)
    const write = async (item: (typeof items)[number], how: typeof end) => {
      const trx = await source.transaction()
      await trx.raw(`select spoor_capture.context(actor => 'Ada Admin', channel => 'correction', correction => ?)`, [
        id,
      ])
      await trx.raw('update home set deposit = 10 where id = ?', [idOf(item.key)])
      const { rows } = await trx.raw<{ rows: { xid: string }[] }>('select pg_current_xact_id()::text as xid')
      attempt.transaction = rows[0]!.xid
      attempt.written = [item.id]
      await noteAttempt(world.db, id, attempt)
      await trx[how]()
    }
    // One slice is done and written down, of the next nobody knows.
    await write(items[0]!, 'commit')
    await world.db.transaction((trx) => markWritten(trx, attempt))
    await write(items[1]!, end)
    expect(await settleAttempts(world.db, world.sources)).toHaveLength(1)
    await world.collect()
    const after = await wholeCorrection(world, id)
    expect(after).toMatchObject({ state: 'applied', piecemeal: { records: end === 'commit' ? 2 : 3 } })
    expect(after.items.map(({ written }) => written)).toEqual([true, end === 'commit', false, false])
    expect((await readItems(world.db, after.piecemeal!.restId!)).map(({ key }) => key)).toEqual(
      after.items.filter(({ written }) => !written).map(({ key }) => key),
    )
    await world.business.query('update home set deposit = 10')
    await world.collect()
  })
})
