import { applyCorrection, rehearseCorrection } from '../packages/server/dist/corrections/carry-out.js'
import { draftCorrection } from '../packages/server/dist/corrections/draft.js'
import { readCorrection } from '../packages/server/dist/corrections/shown.js'
import { makeWorld, median } from './world.mjs'

const records = 10_000

/** Ten thousand records, one field: drafted and rehearsed, and applied against the one statement that does the same. */
export async function correction(cluster) {
  const world = await makeWorld(cluster, 'create table public.rent (id int primary key, amount numeric, note text)')
  try {
    await world.track({ rent: ['amount'] })
    const { business } = world
    await business.query(`insert into public.rent select n, 100, 'n' from generate_series(1, ${records}) n`)
    const collector = world.newCollector()
    const collect = async () => {
      while ((await collector.collectOnce()) > 0);
    }
    await collect()
    const { person } = world
    const deps = { db: world.db, sources: world.sources }
    const [drafted, applied, plain] = [[], [], []]
    for (let n = 0; n < 3; n++) {
      await business.query(`update public.rent set amount = ${110 + n}`)
      await collect()
      const last = await world.db('ledger.save').max('id as id').first()
      let start = performance.now()
      const id = await draftCorrection(world, { scope: `how=x${last.id}` }, person)
      await rehearseCorrection(deps, id, {}, person)
      await readCorrection(world.db, id)
      drafted.push(performance.now() - start)
      start = performance.now()
      await applyCorrection(deps, id, 'a bench', person)
      applied.push(performance.now() - start)
      await collect()
      start = performance.now()
      await business.query(`update public.rent set amount = ${210 + n} where amount = 100`)
      plain.push(performance.now() - start)
      await business.query('update public.rent set amount = 100')
      await collect()
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
