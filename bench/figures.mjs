import { firstWork, parseScope } from '@spoor/core'
import { whereScope } from '../packages/server/dist/ledger/scope-sql.js'
import { keepRead } from '../packages/server/dist/scope/held.js'
import { readFigure } from '../packages/server/dist/figures/over-time.js'
import { readStays } from '../packages/server/dist/figures/stays.js'
import { makeWorld, median, timed } from './world.mjs'

const records = 100_000
const changesEach = 4
const zone = 'Europe/London'

let made

/** A hundred thousand records, each made once and changed a few times in two years: a status and an amount. */
async function world(cluster) {
  return (made ??= await make(cluster))
}

async function make(cluster) {
  const own = await makeWorld(cluster, 'create table public.home (id int primary key, state text, rent numeric(10,2))')
  await own.track({ home: ['state', 'rent'] })
  const { db } = own
  const [type] = await db('spoor.record_type').where({ table_name: 'home' })
  const [state] = await db('spoor.field').where({ type_id: type.id, column_name: 'state' }).pluck('id')
  const [rent] = await db('spoor.field').where({ type_id: type.id, column_name: 'rent' }).pluck('id')
  await db.raw(
    `select ledger.ensure_month((now() - make_interval(days => d))::date) from generate_series(0, 760, 15) d`,
  )
  await db.raw(`update spoor.coverage set from_at = now() - interval '731 days'`)
  await db.raw(`insert into spoor.actor (kind, name) values ('person', 'one')`)
  const saves = records * (changesEach + 1)
  // One after another, so that every record goes through the same steps.
  await db.raw(`insert into ledger.save (id, captured_at, source_id, type_id, record_key, label, action, actor_id, actor_kind, claimed, channel, db_login, transaction_id, plan_version, outbox_seq, run_id)
    select g, now() - (${saves} - g) * (interval '730 days' / ${saves}), 1, ${type.id}, '["' || g % ${records} || '"]', 'home', case when g < ${records} then 'create' else 'change' end,
           1, 'person', false, 'screen', 'app', g::text, 1, g, g / 50 from generate_series(0, ${saves - 1}) g`)
  const values = (at) =>
    `(array['raised','approved','in progress','done','checked'])[1 + (s.id / ${records} + ${at})::int % 5]`
  await db.raw(`insert into ledger.change (save_id, captured_at, field_id, type_id, record_key, actor_id, actor_kind, before, after)
    select s.id, s.captured_at, ${state}, s.type_id, s.record_key, 1, 'person', case when s.action = 'change' then ${values(4)} end, ${values(0)} from ledger.save s`)
  await db.raw(`insert into ledger.change (save_id, captured_at, field_id, type_id, record_key, actor_id, actor_kind, before, after)
    select s.id, s.captured_at, ${rent}, s.type_id, s.record_key, 1, 'person', case when s.action = 'change' then (100 + s.id / ${records} - 1)::text end, (100 + s.id / ${records})::text from ledger.save s`)
  // What is read goes as far as the ledger says that it reaches.
  await db('ledger.head').update({ last_save_id: saves - 1 })
  await db.raw('analyze ledger.save, ledger.change')
  return { db, close: () => own.close(), state, rent }
}

/** A reading of a field of all records, once that is kept; and how long that takes the first time, as a job. */
async function measured(cluster, name, against, fieldOf, work) {
  const { db, ...fields } = await world(cluster)
  const first = await timed(() => keepRead(db, [fieldOf(fields)], 'spoor.life'))
  const times = []
  for (let n = 0; n < 3; n++) times.push(await timed(() => work(db, fields)))
  const value = median(times)
  const of = `${records} records of ${changesEach + 1} saves`
  return [
    {
      name,
      value,
      unit: 'ms',
      against: `${against}, median of 3; ${of}`,
      ratio: null,
      target: '<= 2000 ms',
      holds: value <= 2000,
    },
    {
      name,
      value: first,
      unit: 'ms',
      against: `before it for the first time: what the field held, read and kept; ${of}`,
      ratio: null,
      target: 'told',
      holds: true,
    },
  ]
}

/** How long every record stayed in each value of a status. */
export const timeInValue = (cluster) =>
  measured(
    cluster,
    'time-in-value',
    'a status, all values',
    ({ state }) => state,
    (db, { state }) => readStays(db, [{}], { work: { ...firstWork.stays, fieldId: state }, zone }, Date.now()),
  )

/** What every record held in a field, read for the first time, and a count of saves by it afterwards. */
export async function held(cluster) {
  const { db, state } = await world(cluster)
  const first = await timed(() => keepRead(db, [state]))
  const scope = parseScope(new URLSearchParams(`holds=f${state}.then.done`)).scope
  const times = []
  for (let n = 0; n < 3; n++)
    times.push(
      await timed(async () => {
        await keepRead(db, [state])
        await whereScope(db('ledger.save as s'), scope, 'save', 's', Date.now()).count()
      }),
    )
  const of = `${records} records of ${changesEach + 1} saves`
  const line = { unit: 'ms', ratio: null, target: 'told', holds: true }
  return [
    { name: 'held', value: first, against: `what a field held, read for the first time; ${of}`, ...line },
    {
      name: 'held',
      value: median(times),
      against: `saves counted by what their record held, median of 3; ${of}`,
      ...line,
    },
  ]
}

/** The total of an amount over all records, two years by day, with what moved it. */
export const figure = (cluster) =>
  measured(
    cluster,
    'figure',
    'a total by day over two years',
    ({ rent }) => rent,
    (db, { rent }) => readFigure(db, [{}], { work: { ...firstWork.figure, fieldId: rent }, zone }, Date.now()),
  )

export async function closeFigures() {
  await (await made)?.close()
}
