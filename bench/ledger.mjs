import { performance } from 'node:perf_hooks'
import { makeWorld } from './world.mjs'
import { readActivity } from '../packages/server/dist/changes/queries/activity.js'
import { changePage } from '../packages/server/dist/changes/queries/changes.js'
import { groupChanges } from '../packages/server/dist/changes/queries/groups.js'
import { firstWork } from '@spoor/core'
import { readPivot } from '../packages/server/dist/figures/pivot.js'
import { savePage } from '../packages/server/dist/ledger/saves.js'
import { today } from '../packages/server/dist/today/today.js'
import { tryOnPast } from '../packages/server/dist/watches/trial.js'
import { summarise } from '../packages/server/dist/changes/queries/summary.js'

/** Ten million changes over two years, or as many as SPOOR_BENCH_CHANGES says. */
const changes = Number(process.env.SPOOR_BENCH_CHANGES ?? 10_000_000)
const changesPerSave = 2.5
const saves = Math.round(changes / changesPerSave)
const days = 730
const types = 12
const fieldsPerType = 8
const actors = 300
const zone = 'Europe/London'

let ready

/** The ledger that all of these read; made once a run. */
async function bigLedger(cluster) {
  return await (ready ??= make(cluster))
}

/** To be called when all of them are done. */
export async function closeLedger() {
  if (ready) await (await ready).world.close()
}

async function make(cluster) {
  const columns = Array.from({ length: fieldsPerType }, (_, at) => `f${at} ${at % 2 ? 'numeric(10,2)' : 'text'}`)
  const schema = Array.from(
    { length: types },
    (_, at) => `create table public.t${at + 1} (id int primary key, ${columns.join(', ')});`,
  )
  const world = await makeWorld(cluster, schema.join('\n'))
  const names = Array.from({ length: fieldsPerType }, (_, at) => `f${at}`)
  await world.track(Object.fromEntries(Array.from({ length: types }, (_, at) => [`t${at + 1}`, names])))
  const { db } = world
  const run = (sql) => db.raw(sql)
  await run(
    `insert into spoor.actor (kind, name) select (array['person','person','person','import','job','integration'])[1 + g % 6], 'actor ' || g from generate_series(1, ${actors}) g`,
  )
  await run(
    `select ledger.ensure_month((now() - make_interval(days => d))::date) from generate_series(0, ${days + 31}, 15) d`,
  )
  const { rows: types1 } = await run('select min(id) as first from spoor.record_type')
  const { rows: fields1 } = await run("select min(id) as first from spoor.field where column_name = 'f0'")
  const indexes = (
    await run(`select indexrelid::regclass::text as name, pg_get_indexdef(indexrelid) as made from pg_index join pg_class on pg_class.oid = indexrelid
     where indrelid in ('ledger.save'::regclass, 'ledger.change'::regclass) and not indisprimary`)
  ).rows
  for (const { name } of indexes) await run(`drop index ${name}`)
  const fieldIds = `(select array_agg(f.id order by f.id) from spoor.field f where f.type_id = t.id and f.column_name <> 'id')`
  await run(
    `create temp table shape as select t.id as type_id, row_number() over (order by t.id) - 1 as place, ${fieldIds} as fields from spoor.record_type t`,
  )
  await run(`insert into ledger.save (id, captured_at, source_id, type_id, record_key, label, action, actor_id, actor_kind, claimed, channel, reason, db_login, transaction_id, plan_version, outbox_seq, run_id)
    select g, now() - (${saves} - g) * (interval '${days} days' / ${saves}), 1, s.type_id, '["' || (hashint4(g) & 65535) || '"]', 'record ' || (hashint4(g) & 65535), 'change', a.id, a.kind, false,
      (array['screen','import','job','API'])[1 + g % 4], case when g % 3 = 0 then 'reason ' || g % 100 end, 'app', g::text, 1, g, g
      from generate_series(1, ${saves}) g join shape s on s.place = (hashint4(g + 7) & 1023) % ${types} join spoor.actor a on a.id = 1 + (hashint4(g + 3) & 65535) % ${actors}`)
  await run(`insert into ledger.change (save_id, captured_at, field_id, type_id, record_key, actor_id, actor_kind, before, after, rise, rise_share)
    select s.id, s.captured_at, f.id, s.type_id, s.record_key, s.actor_id, s.actor_kind, v.before, v.after, case when f.base_type = 'numeric' then v.after::numeric - v.before::numeric end,
           case when f.base_type = 'numeric' then (v.after::numeric - v.before::numeric) / v.before::numeric end
      from ledger.save s join shape h on h.type_id = s.type_id
      cross join lateral generate_series(0, 1 + (hashint8(s.id) & 1)::int) n
      join spoor.field f on f.id = h.fields[1 + (((hashint8(s.id + 11) & 255)::int + n * 3) % ${fieldsPerType})]
      cross join lateral (select case when f.base_type = 'numeric' then (100 + (hashint8(s.id + n) & 1023))::text else 'some words about ' || (hashint8(s.id + n) & 8191) end as before,
        case when f.base_type = 'numeric' then (100 + (hashint8(s.id + n + 1) & 1023))::text else 'other words about ' || (hashint8(s.id * 3 + n) & 8191) end as after) v`)
  // As PostgreSQL prints it, it would be the parent's alone and of no use.
  for (const { made } of indexes) await run(made.replace(' ON ONLY ', ' ON '))
  // In the order of time, as a collector writes them.
  await run(`insert into ledger.hour_actor (hour, type_id, actor_id, actor_kind, channel, saves, changes)
    select date_trunc('hour', captured_at), type_id, actor_id, actor_kind, channel, count(*), (count(*) * ${changesPerSave})::bigint from ledger.save group by 1, 2, 3, 4, 5 order by 1`)
  await run(
    'insert into ledger.hour_kind select hour, actor_kind, sum(saves), sum(changes) from ledger.hour_actor group by 1, 2',
  )
  await run(
    `insert into ledger.month_actor select date_trunc('month', hour at time zone 'UTC')::date, type_id, actor_id, min(actor_kind), channel, sum(saves), sum(changes) from ledger.hour_actor group by 1, 2, 3, 5`,
  )
  await run(
    'analyze ledger.hour_kind; analyze ledger.month_actor; analyze ledger.save; analyze ledger.change; analyze ledger.hour_actor',
  )
  const { rows } = await run('select count(*) as n from ledger.change')
  const first = { type: Number(types1[0].first), field: Number(fields1[0].first) }
  return { db, world, first, counted: Number(rows[0].n) }
}

/** The 95th percentile of some runs, on connections and code that were in use before, as a server's are. @returns milliseconds. */
async function p95(times, work) {
  const took = []
  for (let n = 0; n < Math.min(10, times); n++) await work(n)
  for (let n = 1; n <= times; n++) {
    const begun = performance.now()
    await work(n)
    took.push(performance.now() - begun)
  }
  return took.sort((a, b) => a - b)[Math.min(took.length - 1, Math.floor(took.length * 0.95))]
}

const line = (name, value, target, against, changesIn) => ({
  name,
  value,
  unit: 'ms, 95th percentile',
  against: `${against}; ${(changesIn / 1e6).toFixed(1)} million changes`,
  ratio: null,
  target: `<= ${target}`,
  holds: value <= target,
})
const who = (id) => ({ who: { part: 'who', exclude: false, actors: [id], kinds: [] } })
const field = (id) => ({ what: { part: 'what', exclude: false, types: [], fields: [id] } })
const lastDays = (n) => ({ when: { part: 'when', exclude: false, span: { span: 'last', days: n, zone } } })
const now = () => Date.now()

export async function firstPage(cluster) {
  const { db, first, counted } = await bigLedger(cluster)
  const page = (scope) => savePage(db, [scope], { after: undefined, limit: 100, nowMs: now() })
  const scopes = [
    {},
    who(7),
    field(first.field),
    { ...who(9), ...lastDays(90) },
    { what: { part: 'what', exclude: false, types: [first.type], fields: [] } },
  ]
  return [
    line(
      'first-page',
      await p95(40, (n) => page(scopes[n % scopes.length])),
      40,
      'first 100 saves of five scopes',
      counted,
    ),
  ]
}

export async function deepPage(cluster) {
  const { db, counted } = await bigLedger(cluster)
  const at = (share) => new Date(Date.now() - share * days * 86_400_000).toISOString()
  const deep = (n) =>
    changePage(db, [{}], {
      after: `${at(0.3 + n / 100)}_9000000000_1`,
      limit: 100,
      sort: 'time',
      descending: true,
      nowMs: now(),
    })
  return [line('deep-page', await p95(30, deep), 40, '100 changes far back by keyset', counted)]
}

export async function ribbon(cluster) {
  const { db, counted } = await bigLedger(cluster)
  return [
    line(
      'ribbon',
      await p95(12, () => readActivity(db, [{}], zone, now())),
      80,
      'two years from hourly counts',
      counted,
    ),
  ]
}

export async function daysReading(cluster) {
  const { db, counted } = await bigLedger(cluster)
  const month = lastDays(30)
  const work = async () => {
    await groupChanges(db, [month], { by: 'day', zone, before: undefined }, now())
    await groupChanges(db, [month], { by: 'actor', zone, before: undefined }, now())
    await groupChanges(db, [{ ...month, ...who(5) }], { by: 'type', zone, before: undefined }, now())
  }
  return [line('days', await p95(12, work), 150, 'a month by day, person and type', counted)]
}

export async function count(cluster) {
  const { db, counted } = await bigLedger(cluster)
  return [
    line(
      'count',
      await p95(20, (n) => summarise(db, [{ ...who(1 + n), ...lastDays(90) }], now())),
      100,
      'one actor, three months, exact',
      counted,
    ),
  ]
}

/** All that Today asks for a week and for a first look at everything of a month, with two hundred stories kept. */
export async function todayPage(cluster) {
  const { db, counted } = await bigLedger(cluster)
  await db.raw(`insert into spoor.story (story, reasons, saves, records, from_at, to_at, actors, types)
    select 'story ' || g, '[{"rule":"there-and-back","fieldId":null,"figures":{"hours":3,"changes":9,"backs":0}}]', 3, 1, now() - g * interval '4 hours' - interval '2 hours', now() - g * interval '4 hours', '{1}', '{1}' from generate_series(1, 200) g on conflict do nothing`)
  await db.raw(
    `insert into spoor.story_save select s.id, ${saves} - (s.id * 50 + n) from spoor.story s, generate_series(1, 3) n on conflict do nothing`,
  )
  const person = { permissions: ['noticing.read'], lookedAt: null }
  const page = (n) =>
    today(db, person, [], {
      from: new Date(now() - (n % 2 ? 7 : 1) * 86_400_000).toISOString(),
      until: undefined,
      zone,
    })
  return [line('today', await p95(20, page), 300, 'everything of Today, a day and a week', counted)]
}

export async function rise(cluster) {
  const { db, first, counted } = await bigLedger(cluster)
  const rose = (by) => ({ value: { part: 'value', exclude: false, tests: [{ test: 'rose', by, percent: true }] } })
  const scopes = [rose('10'), rose('800'), { ...rose('10'), ...field(first.field + 1) }]
  const page = (n) =>
    changePage(db, [scopes[n % 3]], { after: undefined, limit: 100, sort: 'time', descending: true, nowMs: now() })
  return [line('rise', await p95(30, page), 150, 'rose by more than a percentage, any field or one', counted)]
}

export async function substring(cluster) {
  const { db, counted } = await bigLedger(cluster)
  const has = (text) => ({ value: { part: 'value', exclude: false, tests: [{ test: 'contains', text }] } })
  const frequent = await p95(10, () =>
    changePage(db, [has('words')], { after: undefined, limit: 100, sort: 'time', descending: true, nowMs: now() }),
  )
  const rare = await p95(3, () =>
    changePage(db, [{ ...has('about 77x'), ...lastDays(30) }], {
      after: undefined,
      limit: 100,
      sort: 'time',
      descending: true,
      nowMs: now(),
    }),
  )
  return [
    line('substring', frequent, 250, 'a frequent word', counted),
    line('substring', rare, 250, 'what is nowhere, in the last month', counted),
  ]
}

/** As many lines as may be put in order by any column. */
export async function sorted(cluster) {
  const { db, counted } = await bigLedger(cluster)
  const orders = ['difference', 'record', 'after', 'field']
  const page = (n) =>
    changePage(db, [{ ...who(20 + n), ...lastDays(90) }], {
      after: undefined,
      limit: 100,
      sort: orders[n % orders.length],
      descending: true,
      nowMs: now(),
    })
  return [
    {
      ...line(
        'sorted',
        await p95(20, page),
        0,
        'some 4,000 changes of one actor in three months, by four columns',
        counted,
      ),
      target: null,
      holds: null,
    },
  ]
}

/** When a watch would have fired in a year: a field that rose by more than half, counted by the day. */
export async function tryPast(cluster) {
  const { db, world, first, counted } = await bigLedger(cluster)
  const rule = {
    scope: `what=f${first.field + 1}&value=rose.200`,
    fires: { fires: 'saves', more: 5, within: 'day' },
    zone,
  }
  const value = await p95(5, () => tryOnPast(db, rule, world.person, now()))
  return [line('try-on-past', value, 10_000, 'one numeric field, by the day, a year', counted)]
}

/** A year's pivot of two dimensions: from the hourly counts, and from the changes themselves. */
export async function pivot(cluster) {
  const { db, first, counted } = await bigLedger(cluster)
  const year = lastDays(365)
  const read = (scope, work) => readPivot(db, [scope, {}], { work: { ...firstWork.pivot, ...work }, zone }, now())
  return [
    line(
      'pivot-hours',
      await p95(5, () => read(year, { rows: 'who', columns: 'month' })),
      1000,
      'saves by who and month, a year, from hourly counts',
      counted,
    ),
    line(
      'pivot-changes',
      await p95(3, () => read(year, { rows: 'field', columns: 'month', measure: 'changes' })),
      6000,
      'changes by field and month, a year, from the changes',
      counted,
    ),
    line(
      'pivot-differences',
      await p95(3, () =>
        read({ ...year, ...field(first.field + 1) }, { rows: 'who', columns: 'month', measure: 'median' }),
      ),
      6000,
      'the median difference of one field by who and month, a year',
      counted,
    ),
  ]
}
