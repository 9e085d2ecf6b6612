import { stateAt, unapplied } from '../packages/core/dist/index.js'
import { storyOf } from '../packages/server/dist/records/story.js'
import { makeWorld, median, timed } from './world.mjs'

const fields = Array.from({ length: 15 }, (_, n) => n + 1)
const instant = (second) => `${new Date(Date.UTC(2024, 0, 1, 0, 0, second)).toISOString().slice(0, 19)}Z`

function msOf(work) {
  const begun = performance.now()
  work()
  return performance.now() - begun
}

/** A record of a thousand saves at a moment, in the middle of them. */
export function stateRecord() {
  const held = new Map()
  const saves = Array.from({ length: 1000 }, (_, n) => {
    const changes = fields
      .filter((field) => n === 0 || (n * 7 + field) % 5 === 0)
      .map((fieldId) => {
        const change = { fieldId, before: held.get(fieldId) ?? null, after: `value ${n} of ${fieldId}`, hidden: null }
        held.set(fieldId, change.after)
        return change
      })
    return { id: String(n), at: instant(n * 60), action: n === 0 ? 'create' : 'change', changes }
  })
  const coverage = fields.map((fieldId) => ({ fieldId, from: instant(0), to: null }))
  const trail = { saves, coverage, found: [] }
  const ms = median(Array.from({ length: 9 }, (_, n) => msOf(() => stateAt(trail, fields, instant(n * 6000)))))
  return [
    {
      name: 'state-record',
      value: ms,
      unit: 'ms',
      against: 'a record of 1,000 saves and 15 fields at a moment',
      ratio: null,
      target: '<= 20 ms',
      holds: ms <= 20,
    },
  ]
}

/** A hundred thousand records as they stood before their last 300,000 saves, taken back from the present. */
export function stateType() {
  const records = 100_000
  const ms = median(
    Array.from({ length: 5 }, () => {
      const present = new Map(
        Array.from({ length: records }, (_, n) => [`["${n}"]`, new Map(fields.map((field) => [field, `now ${n}`]))]),
      )
      const newestFirst = Array.from({ length: 3 * records }, (_, n) => ({
        id: String(n),
        at: '',
        action: n % 50 === 0 && n < records ? 'create' : 'change',
        key: `["${n % records}"]`,
        keyBefore: null,
        changes: [{ fieldId: 1 + (n % 15), before: `then ${n}`, after: 'now', hidden: null }],
      }))
      return msOf(() => unapplied(present, newestFirst))
    }),
  )
  return [
    {
      name: 'state-type',
      value: ms,
      unit: 'ms',
      against: '100,000 records, 300,000 saves taken back',
      ratio: null,
      target: '<= 1000 ms',
      holds: ms <= 1000,
    },
  ]
}

/** The story of a record of 5,000 saves, read by the server. */
export async function recordStory(cluster) {
  const columns = Array.from({ length: 15 }, (_, n) => `c${n}`)
  const world = await makeWorld(
    cluster,
    `create table public.record (id int primary key, ${columns.map((name) => `${name} int default 0`).join(', ')}); insert into public.record (id) values (1)`,
  )
  await world.track({ record: columns })
  await world.business.query(
    `do $$ begin for n in 1..5000 loop update public.record set c0 = n, c1 = n / 2, c7 = n % 5; end loop; end $$`,
  )
  const collector = world.newCollector()
  while ((await collector.collectOnce()) > 0);
  const [type] = await world.db('spoor.record_type').where({ table_name: 'record' })
  const times = []
  for (let n = 0; n < 7; n++) times.push(await timed(() => storyOf(world.db, type.id, '["1"]', {}, Date.now())))
  await world.close()
  const ms = median(times)
  return [
    {
      name: 'record-story',
      value: ms,
      unit: 'ms',
      against: '5,000 saves of one record',
      ratio: null,
      target: '<= 50 ms',
      holds: ms <= 50,
    },
  ]
}
