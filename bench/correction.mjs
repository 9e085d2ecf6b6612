import { applyCorrection, rehearseCorrection } from '../packages/server/dist/corrections/carry-out.js'
import { draftCorrection } from '../packages/server/dist/corrections/draft.js'
import { readCorrection } from '../packages/server/dist/corrections/shown.js'
import { makeWorld, median } from './world.mjs'

/**
 * Sets the last transaction back.
 * @returns ms until it was drafted, rehearsed and read, and ms until it was applied
 */
async function setBackLast(world, applier) {
  await world.collect()
  const last = await world.db('ledger.save').max('id as id').first()
  let start = performance.now()
  const id = await draftCorrection(world, { scope: `how=x${last.id}` }, world.person)
  await rehearseCorrection(world, id, {}, world.person)
  await readCorrection(world.db, id)
  const drafted = performance.now() - start
  start = performance.now()
  await applyCorrection(world, id, 'a bench', applier)
  const applied = performance.now() - start
  await world.collect()
  return [drafted, applied]
}

const records = 10_000

/** Ten thousand records, one field: drafted and rehearsed, and applied against the one statement that does the same. */
export async function correction(cluster) {
  const world = await makeWorld(cluster, 'create table public.rent (id int primary key, amount numeric, note text)')
  try {
    await world.track({ rent: ['amount'] })
    const { business } = world
    await business.query(`insert into public.rent select n, 100, 'n' from generate_series(1, ${records}) n`)
    await world.collect()
    const [drafted, applied, plain] = [[], [], []]
    for (let n = 0; n < 3; n++) {
      await business.query(`update public.rent set amount = ${110 + n}`)
      const [draft, application] = await setBackLast(world, world.person)
      drafted.push(draft)
      applied.push(application)
      const start = performance.now()
      await business.query(`update public.rent set amount = ${210 + n} where amount = 100`)
      plain.push(performance.now() - start)
      await business.query('update public.rent set amount = 100')
      await world.collect()
    }
    const ms = { drafted: median(drafted), applied: median(applied), plain: median(plain) }
    const ratio = ms.applied / ms.plain
    return [
      {
        name: 'correction',
        value: ms.drafted,
        unit: 'ms',
        against: 'draft and rehearse 10,000 records of a scope, one field',
        ratio: null,
        target: '<= 3000',
        holds: ms.drafted <= 3000,
      },
      {
        name: 'correction-apply',
        value: ms.applied,
        unit: 'ms',
        against: `the one guarded UPDATE, tracked alike: ${ms.plain.toFixed(0)} ms`,
        ratio,
        target: '<= 4 times',
        holds: ratio <= 4,
      },
    ]
  } finally {
    await world.close()
  }
}

const lines = 10_000

/** A deleted parent and its ten thousand lines: drafted and rehearsed, and made anew against one INSERT of as many. */
export async function rebuild(cluster) {
  const world = await makeWorld(
    cluster,
    `create table public.account (id int primary key, name text);
     create table public.line (id int primary key, account_id int not null references public.account on delete cascade, amount numeric, note text)`,
  )
  try {
    await world.track({ account: ['name'], line: ['account_id', 'amount', 'note'] })
    const { business, people } = world
    const fill = `insert into public.line select n, 1, n * 1.5, 'n' from generate_series(1, ${lines}) n`
    await business.query(`insert into public.account values (1, 'one'); ${fill}`)
    await people.add({ login: 'second', name: 'Second', role: 'administrator', password: 'password of second' })
    const second = await people.byLogin('second')
    const [drafted, applied, plain] = [[], [], []]
    for (let n = 0; n < 3; n++) {
      await business.query('delete from public.account')
      const [draft, application] = await setBackLast(world, second)
      drafted.push(draft)
      applied.push(application)
      await business.query('delete from public.line')
      const start = performance.now()
      await business.query(fill)
      plain.push(performance.now() - start)
      await world.collect()
    }
    const ms = { drafted: median(drafted), applied: median(applied), plain: median(plain) }
    return [
      {
        name: 'rebuild',
        value: ms.drafted,
        unit: 'ms',
        against: `draft and rehearse a deleted parent with 10,000 lines`,
        ratio: null,
        target: '<= 6000',
        holds: ms.drafted <= 6000,
      },
      {
        name: 'rebuild-apply',
        value: ms.applied,
        unit: 'ms',
        against: `one INSERT of 10,000 lines, tracked alike: ${ms.plain.toFixed(0)} ms`,
        ratio: ms.applied / ms.plain,
        target: '<= 8 times',
        holds: ms.applied / ms.plain <= 8,
      },
    ]
  } finally {
    await world.close()
  }
}
