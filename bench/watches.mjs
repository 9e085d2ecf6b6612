import { performance } from 'node:perf_hooks'
import { makeWatch } from '../packages/server/dist/watches/store.js'
import { Watching } from '../packages/server/dist/watches/watching.js'
import { makeWorld, silent } from './world.mjs'

const watchCount = 200
const rounds = 30
const savesARound = 500
const savesATransaction = 20

/** Two hundred watches over five hundred saves that came in a second: how long one look at them takes. */
export async function watches(cluster) {
  const world = await makeWorld(cluster, 'create table public.rent (id int primary key, amount numeric, note text)')
  try {
    await world.track({ rent: ['amount', 'note'] })
    const { db, business, person } = world
    const ids = await db('spoor.field').whereIn('column_name', ['amount', 'note']).orderBy('id').pluck('id')
    const scopes = [
      `what=f${ids[0]}`,
      `what=f${ids[1]}`,
      'value=rose.100',
      'who=!k.import',
      'how=delete',
      'reason=!given',
      `what=f${ids[0]}&value=rose.10`,
      'value=has.needle',
    ]
    // Of ten one adds up, and one asks what is usual.
    const fires = (n) => {
      const within = ['run', 'hour', 'day'][n % 3]
      if (n % 10 === 1) return { fires: 'sum', fieldId: ids[0], way: 'moves', over: '100', within }
      return n % 10 === 2 ? { fires: 'unusual' } : { fires: 'saves', more: n % 3 === 0 ? 0 : 20, within }
    }
    for (let n = 0; n < watchCount; n++)
      await makeWatch(
        db,
        person,
        {
          scope: scopes[n % scopes.length],
          fires: fires(n),
          speaks: { speaks: 'once' },
          quiet: null,
          zone: 'Europe/London',
          people: [person.id],
          mail: [],
          receivers: [],
        },
        { mayMail: false },
      )
    const watching = new Watching({ db, log: silent })
    await watching.look()
    const took = []
    for (let round = 0; round < rounds; round++) {
      for (let n = 0; n < savesARound; n += savesATransaction)
        await business.query(
          `insert into public.rent select n, n, 'note' from generate_series(${round * savesARound + n + 1}, ${round * savesARound + n + savesATransaction}) n`,
        )
      await world.collect()
      const begun = performance.now()
      while (await watching.look());
      took.push(performance.now() - begun)
    }
    took.sort((a, b) => a - b)
    const value = took[Math.floor(took.length * 0.95)]
    return [
      {
        name: 'watches',
        value,
        unit: 'ms, 95th percentile',
        against: `${watchCount} watches, ${savesARound} saves`,
        ratio: null,
        target: '<= 1000',
        holds: value <= 1000,
      },
    ]
  } finally {
    await world.close()
  }
}
