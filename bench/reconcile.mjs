import { pino } from 'pino'
import { Reconciling } from '../packages/server/dist/reconcile/reconciling.js'
import { StandingRecords } from '../packages/server/dist/standing/standing.js'
import { Taking } from '../packages/server/dist/tracking/taking.js'
import { makeWorld } from './world.mjs'

const rows = 1_000_000

/** A million records held against their trail, while the business goes on writing. */
export async function reconcile(cluster) {
  const world = await makeWorld(
    cluster,
    `create table public.account (id int primary key, owner text, amount numeric, state text, opened date);
     create table public.busy (id int primary key, amount numeric)`,
  )
  try {
    const { business, db, sources } = world
    await business.query(
      `insert into public.account select n, 'owner ' || n, n / 7.0, 'open', date '2020-01-01' + n % 2000 from generate_series(1, ${rows}) n`,
    )
    await business.query('insert into public.busy select n, n from generate_series(1, 1000) n')
    await world.track({ account: ['owner', 'amount', 'state', 'opened'], busy: ['amount'] })
    const job = (id, input) => ({ id, input, askedBy: null, progress: async () => undefined })
    const key = world.vault.derive('fingerprint')
    const log = pino({ level: 'error' })
    const takings = await db('spoor.taking').orderBy('id').select('job_id')
    for (const { job_id: id } of takings) await new Taking(db, sources, key).perform(job(id, {}))
    const collector = world.newCollector()
    while ((await collector.collectOnce()) > 0);
    const standing = new StandingRecords(db, log)
    while ((await standing.readOn()) > 0);
    await business.query('vacuum analyze public.account')
    let going = true
    let saves = 0
    const write = async () => {
      for (let n = 0; going; n++) {
        await business.query('update public.busy set amount = amount + 1 where id = $1', [1 + (n % 1000)])
        saves++
      }
    }
    const paceOf = async (work) => {
      going = true
      saves = 0
      const start = performance.now()
      const writing = write()
      await work()
      const seconds = (performance.now() - start) / 1000
      going = false
      await writing
      return { seconds, perSecond: saves / seconds }
    }
    const alone = await paceOf(() => new Promise((done) => setTimeout(done, 15_000)))
    while ((await collector.collectOnce()) > 0);
    const { id: typeId } = await db('spoor.record_type').where({ table_name: 'account' }).first('id')
    const [asked] = await db('spoor.job')
      .insert({ kind: 'reconciling', subject: 'bench', words: 'bench', input: '{}' })
      .returning('id')
    const reconciling = new Reconciling(db, sources, key)
    let outcome
    const beside = await paceOf(async () => {
      outcome = await reconciling.perform(job(asked.id, { typeIds: [typeId] }))
    })
    if (outcome.output.differing !== 0 || outcome.output.records !== rows) throw new Error(outcome.words)
    const kept = beside.perSecond / alone.perSecond
    return [
      {
        name: 'reconcile',
        value: beside.seconds,
        unit: 's',
        against: 'a million records of five columns against their trail',
        ratio: null,
        target: '<= 120',
        holds: beside.seconds <= 120,
      },
      {
        name: 'reconcile-beside',
        value: beside.perSecond,
        unit: 'saves/s',
        against: `the business alone: ${alone.perSecond.toFixed(0)} saves/s`,
        ratio: kept,
        target: '>= 0.9',
        holds: kept >= 0.9,
      },
    ]
  } finally {
    await world.close()
  }
}
