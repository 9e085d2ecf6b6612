import { fork } from 'node:child_process'
import { setTimeout as sleep } from 'node:timers/promises'
import { pino } from 'pino'
import { Taking } from '../packages/server/dist/tracking/taking.js'
import { Work } from '../packages/server/dist/work/work.js'
import { makeWorld, median } from './world.mjs'

const records = 100_000
const columns = Array.from({ length: 14 }, (_, n) => `c${n}`)
const writers = 4

/** Single-row updates by primary key in a process of their own, until it is told to stop. */
function writing(url) {
  const child = fork(new URL('./found-writers.mjs', import.meta.url), [url, String(writers), String(records)])
  const told = new Promise((done, fail) => {
    child.once('message', done)
    child.once('error', fail)
    child.once('exit', (code) => code && fail(new Error('the writers failed')))
  })
  /** @returns how many updates a second there were */
  return () => {
    child.send('stop')
    return told
  }
}

/** What 100,000 records of 15 fields hold, taken in while a business writes; and what the business notices of it. */
export async function found(cluster) {
  const world = await makeWorld(
    cluster,
    `create table public.record (id int primary key, ${columns.map((name) => `${name} text default 'value of ${name}'`).join(', ')});
     insert into public.record (id) select generate_series(1, ${records})`,
  )
  try {
    await world.track({ record: ['id', ...columns] })
    const forMs = async (ms) => {
      const stop = writing(world.businessUrl)
      await sleep(ms)
      return await stop()
    }
    await forMs(2000)
    const alone = [await forMs(4000)]
    const stop = writing(world.businessUrl)
    const work = new Work({
      db: world.db,
      databaseUrl: world.spoorUrl,
      log: pino({ level: 'error' }),
      handlers: [new Taking(world.db, world.sources, world.vault.derive('fingerprint'))],
    })
    const begun = performance.now()
    await work.once()
    const seconds = (performance.now() - begun) / 1000
    const besideIt = await stop()
    await work.stop()
    alone.push(await forMs(4000))
    const taken = await world.db('spoor.taking').orderBy('id', 'desc').first()
    if (taken.state !== 'whole' || Number(taken.records) !== records) throw new Error('not everything was taken in')
    const share = besideIt / median(alone)
    return [
      {
        name: 'found',
        value: records / seconds,
        unit: 'records/s',
        against: `100,000 records of 15 fields, taken in while ${writers} connections write: ${seconds.toFixed(1)} s`,
        ratio: null,
        target: '<= 30 s',
        holds: seconds <= 30,
      },
      {
        name: 'found-cost',
        value: besideIt,
        unit: 'updates/s',
        against: `${Math.round(median(alone))} updates/s while nothing is taken in, server, ledger and business on the same cores`,
        ratio: share,
        target: null,
        holds: null,
      },
    ]
  } finally {
    await world.close()
  }
}
