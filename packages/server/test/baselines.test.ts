import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import type { Baseline, BaselineComparison } from '@spoor/contract'
import { askToCheck, makeBaseline, readBaseline, signBaseline } from '../src/baselines/baselines.ts'
import { compareBaseline } from '../src/baselines/compare.ts'
import { KeepingBaselines } from '../src/baselines/keep.ts'
import { applyCorrection, rehearseCorrection } from '../src/corrections/carry-out.ts'
import { draftCorrection } from '../src/corrections/draft.ts'
import { drawing } from './drawing.ts'
import { makeWorld, track, workOnce, type World } from './support.ts'

let world: World
let typeId: number
let fields: Map<string, number>
beforeAll(async () => {
  world = await makeWorld(
    `create table public.post (id int, code text, pay numeric, note text, primary key (id, code))`,
  )
  await track(world, { post: '*' })
  typeId = (await world.db('spoor.record_type').where({ table_name: 'post' }).first<{ id: number }>('id')).id
  const rows = await world.db('spoor.field').where({ type_id: typeId }).select('id', 'column_name')
  fields = new Map(rows.map((row: { id: number; column_name: string }) => [row.column_name, row.id]))
})
afterAll(() => world.close())

const sql = (text: string, values?: unknown[]) => world.business.query(text, values)
const field = (name: string) => fields.get(name)!
type Row = { id: number; code: string; pay: string | null; note: string | null }
const table = async () => (await sql('select id, code, pay::text, note from post')).rows as Row[]
const work = () => workOnce(world, new KeepingBaselines(world.db))

async function made(name: string, more: Partial<Parameters<typeof makeBaseline>[1]> = {}): Promise<Baseline> {
  await world.collect()
  const wish = { name, typeId, fieldIds: [field('pay'), field('note')], where: [], why: 'end of year', ...more }
  const { id } = await makeBaseline(world.db, wish, world.admin)
  await work()
  return await readBaseline(world.db, id)
}
async function whole(id: number): Promise<BaselineComparison> {
  let page = await compareBaseline(world.db, id, {})
  const moves = [...page.moves]
  while (page.next !== null) {
    page = await compareBaseline(world.db, id, { after: page.next, until: page.until })
    moves.push(...page.moves)
  }
  return { ...page, moves }
}

describe('a baseline', () => {
  beforeEach(async () => {
    await sql('delete from post')
  })

  it('names its records, is signed off and is sealed', async () => {
    await sql(`insert into post select n, 'p', n * 10, 'n' from generate_series(1, 700) n`)
    const baseline = await made('Year end', { where: [{ fieldId: field('pay'), is: 'more', text: '3000' }] })
    expect(baseline).toMatchObject({ state: 'kept', records: 400, whole: false, signatures: [] })
    expect(baseline.meant).not.toContain('3000')
    const signed = await signBaseline(world.db, baseline.id, { meaning: 'checked', note: 'by hand' }, world.admin)
    expect(signed.signatures).toMatchObject([{ by: 'Ada Admin', meaning: 'checked', note: 'by hand' }])
    await expect(signBaseline(world.db, baseline.id, { meaning: 'checked' }, world.admin)).rejects.toMatchObject({
      code: 'rule-broken',
    })
    await expect(made('year END')).rejects.toMatchObject({ code: 'name-taken' })
    const words = await world
      .db('ledger.event')
      .whereLike('words', `%baseline ${baseline.id}%`)
      .pluck<string[]>('words')
    expect(words.filter((one) => one.includes(baseline.digest!))).toHaveLength(2)
    const job = await askToCheck(world.db, baseline.id, world.adminId)
    await work()
    const said = async (id: number) =>
      (await world.db('spoor.job').where({ id }).first<{ result: string }>('result')).result
    expect(await said(job)).toBe('All 400 records held what was put down.')
    // Whoever takes one out of the list is found out.
    await world.db('spoor.baseline_record').where({ baseline_id: baseline.id, record_key: '["333","p"]' }).delete()
    const again = await askToCheck(world.db, baseline.id, world.adminId)
    await work()
    expect(await said(again)).toContain('altered by other hands')
  })

  it('refuses what is still to come and another type’s', async () => {
    await expect(made('Future', { at: '2999-01-01T00:00:00Z' })).rejects.toMatchObject({ code: 'rule-broken' })
    await expect(made('Strange', { fieldIds: [987_654] })).rejects.toMatchObject({ code: 'not-found' })
    await world
      .db('spoor.field')
      .where({ id: field('note') })
      .select('id')
  })

  it('is compared with what came later as the table itself is, and put back', async () => {
    const draw = drawing(4310)
    for (let round = 0; round < 6; round++) {
      await sql('delete from post')
      await sql(`insert into post select n, 'p', n, 'n' from generate_series(1, 25) n`)
      const all = round % 2 === 0
      const baseline = await made(
        `Round ${round}`,
        all ? {} : { where: [{ fieldId: field('pay'), is: 'less', text: '15' }] },
      )
      const then = (await table()).filter((row) => all || Number(row.pay) < 15)
      expect(baseline.records).toBe(then.length)
      // Which row now was which then, followed beside the deeds.
      const bears = new Map(then.map((row) => [JSON.stringify([String(row.id), row.code]), { ...row }]))
      const where = new Map([...bears.keys()].map((key) => [key, key]))
      const keyAt = (id: number, code: string) => JSON.stringify([String(id), code])
      const gone = new Set<string>()
      let made_ = 0
      for (let deed = 0; deed < 60; deed++) {
        const rows = await table()
        const row = rows[draw(rows.length)]!
        const here = keyAt(row.id, row.code)
        const member = [...where].find(([, now]) => now === here)?.[0]
        switch (draw(6)) {
          case 0: {
            const code = `c${draw(40)}`
            if (rows.some((one) => one.id === row.id && one.code === code)) break
            await sql('update post set code = $1 where id = $2 and code = $3', [code, row.id, row.code])
            if (member) where.set(member, keyAt(row.id, code))
            break
          }
          case 1:
            if (draw(3) > 0) break
            await sql('delete from post where id = $1 and code = $2', [row.id, row.code])
            if (member) {
              gone.add(member)
              where.delete(member)
            }
            break
          case 2:
            await sql(`insert into post values ($1, 'new', 1, 'new')`, [1000 + round * 100 + made_++])
            break
          case 3:
            await sql('update post set note = $1 where id = $2 and code = $3', [
              [null, 'n', 'm'][draw(3)],
              row.id,
              row.code,
            ])
            break
          default:
            await sql('update post set pay = $1 where id = $2 and code = $3', [1 + draw(4), row.id, row.code])
        }
      }
      await world.collect()
      const now = new Map((await table()).map((row) => [keyAt(row.id, row.code), row]))
      const expected = [...where]
        .flatMap(([member, key]) =>
          (['pay', 'note'] as const).flatMap((name) => {
            const [was, is] = [bears.get(member)![name], now.get(key)![name]]
            return was === is ? [] : [[member, name, was, is]]
          }),
        )
        .sort()
      const compared = await whole(baseline.id)
      const name = (id: number) => [...fields].find(([, one]) => one === id)![0]
      expect(
        compared.moves.map(({ key, fieldId, then: was, later }) => [key, name(fieldId), was, later]).sort(),
      ).toEqual(expected)
      expect(compared.gone.map(({ key }) => key).sort()).toEqual([...gone].sort())
      expect([compared.values, compared.deleted, compared.made]).toEqual([
        expected.length,
        gone.size,
        all ? made_ : null,
      ])
      const correction = await draftCorrection(world, { baselineId: baseline.id }, world.admin)
      const deps = { db: world.db, sources: world.sources }
      await rehearseCorrection(deps, correction, {}, world.admin)
      await applyCorrection(deps, correction, 'back to the baseline', world.admin)
      await world.collect()
      expect((await whole(baseline.id)).moves).toEqual([])
    }
  })
})
