import { valueKind, type Scope } from '@spoor/core'
import type { Held, RunLine } from '@spoor/contract'
import { boundArray, isAfter, type Database } from '../database/knex.ts'
import { maskedFields } from './masked.ts'
import { savesIn } from './in-scope.ts'
import { whereScope, whereScopes } from './scope-sql.ts'
import { byTime, plainNumber, type Found, type Page } from './sorted.ts'

/** So many saves of one run within a scope stand in one line. */
const leastTogether = 5
/** What a line says of its run is reckoned from so many of its saves, the latest. */
const mostReckoned = 5000
/** So many saves are looked at at once. */
const mostLooked = 4000
/** Values longer than this say nothing in a line. */
const longestHeld = 100

/** Keeps the planner from reading all of a table in one go for the sake of some of its rows. */
const oneByOne = 'offset 0'

export interface TogetherRequest {
  /** Where the page before ended. */
  after: string | undefined
  limit: number
  nowMs: number
}

/**
 * A page of saves, newest first, in which each run that has {@link leastTogether} saves or more in all scopes stands for
 * itself once: where its newest save stands. Runs are passed over by leaving them out of the question, so that a run of a
 * million saves costs one look for its first.
 */
export async function pageTogether(
  db: Database,
  scopes: readonly Scope[],
  { after, limit, nowMs }: TogetherRequest,
): Promise<Page & { heads: Map<string, number> }> {
  const rows: Found[] = []
  const heads = new Map<string, number>()
  const passed = new Set<number>()
  const apart = new Set<number>()
  let place = after
  // Where saves stand together, further looks take in more.
  for (let look = limit + 1; rows.length <= limit; look = Math.min(look * 4, mostLooked)) {
    const found = await byTime(...savesIn(db, withoutRuns(scopes, passed), nowMs), {
      after: place,
      limit: look,
      descending: true,
    })
    const runs = await runsOf(db, found.rows)
    const known = (run: number) => apart.has(run) || passed.has(run)
    const asked = [...new Set([...runs.values()].filter((run) => !known(run)))]
    const newest = await newestOf(db, asked, scopes, nowMs)
    for (const run of asked) if (!newest.has(run)) apart.add(run)
    for (const row of found.rows) {
      const run = runs.get(row.id)
      if (run !== undefined && passed.has(run)) continue
      if (run !== undefined && !apart.has(run)) {
        passed.add(run)
        if (after !== undefined && !comesAfter(newest.get(run)!, after)) continue
        heads.set(row.id, run)
      }
      rows.push(row)
      if (rows.length > limit) break
    }
    if (found.next === null) break
    place = found.next
  }
  const shown = rows.slice(0, limit)
  const last = shown.at(-1)
  return { rows: shown, next: rows.length > limit && last ? `${last.captured_at}_${last.id}` : null, heads }
}

/** Whether a save stands below a place in a list with the newest first. */
function comesAfter(save: Found, place: string): boolean {
  const [at = '', id = '0'] = place.split('_')
  return isAfter(at, save.captured_at) || (!isAfter(save.captured_at, at) && BigInt(save.id) < BigInt(id))
}

function withoutRuns(scopes: readonly Scope[], runs: ReadonlySet<number>): readonly Scope[] {
  if (runs.size === 0) return scopes
  return [...scopes, { how: { part: 'how', exclude: true, actions: [], channels: [], runs: [...runs] } }]
}

/** Of some saves, newest first, the runs that are long enough to stand in one line. */
async function runsOf(db: Database, saves: readonly Found[]): Promise<Map<string, number>> {
  const [newest, oldest] = [saves[0], saves.at(-1)]
  if (!newest || !oldest) return new Map()
  const { rows } = await db.raw<{ rows: { id: string; run_id: string }[] }>(
    `select w.id, s.run_id from unnest(?::timestamptz[], ?::bigint[]) as w(captured_at, id)
      cross join lateral (select s.run_id from ledger.save s where s.captured_at = w.captured_at and s.id = w.id
                             and s.captured_at between ? and ? ${oneByOne}) s
       join ledger.run u on u.id = s.run_id and u.saves >= ?`,
    [
      boundArray(saves.map((save) => save.captured_at)),
      boundArray(saves.map((save) => save.id)),
      oldest.captured_at,
      newest.captured_at,
      leastTogether,
    ],
  )
  return new Map(rows.map((row) => [row.id, Number(row.run_id)]))
}

/** The newest save in all scopes of each run that has {@link leastTogether} of them. */
async function newestOf(
  db: Database,
  runs: readonly number[],
  scopes: readonly Scope[],
  nowMs: number,
): Promise<Map<number, Found>> {
  if (runs.length === 0) return new Map()
  const { rows } = await db.raw<{ rows: (Found & { run_id: string; saves: number })[] }>(
    `select distinct on (w.run_id) w.run_id, m.captured_at, m.id, count(*) over (partition by w.run_id)::int as saves
       from unnest(?::bigint[]) as w(run_id) cross join lateral ? m
      order by w.run_id, m.captured_at desc, m.id desc`,
    [boundArray([...runs]), members(db, scopes, leastTogether, nowMs)],
  )
  return new Map(rows.filter((row) => row.saves >= leastTogether).map((row) => [Number(row.run_id), row]))
}

/** The newest saves in all scopes of the run `w.run_id`, as a subquery. */
function members(db: Database, scopes: readonly Scope[], most: number, nowMs: number) {
  const query = db('ledger.save as s').whereRaw('s.run_id = w.run_id')
  whereScopes(query, scopes, 'save', 's', nowMs)
  return query
    .select('s.captured_at', 's.id', 's.type_id', 's.record_key', 's.action', 's.actor_id', 's.channel', 's.reason')
    .orderBy([
      { column: 's.captured_at', order: 'desc' },
      { column: 's.id', order: 'desc' },
    ])
    .limit(most)
}

interface RunRow {
  run_id: string
  declared: string | null
  saves: number
  earliest: string
  latest: string
  types: { typeId: number; records: number }[]
  actions: RunLine['actions']
  actors: number
  channels: number
  reasons: number
  fields: HeldRow[] | null
}

interface HeldRow {
  field_id: number
  base_type: string
  changes: number
  erased: boolean
  before: Side
  after: Side
}

interface Side {
  least: string | null
  most: string | null
  lacking: number
  numeric_least: string | null
  numeric_most: string | null
  numbers: number
}

/** What the saves in scope of some runs have in common, by the number of the save at whose place each run stands. */
export async function runLines(
  db: Database,
  heads: ReadonlyMap<string, number>,
  scopes: readonly Scope[],
  nowMs: number,
): Promise<RunLine[]> {
  if (heads.size === 0) return []
  const changes = db('ledger.change as c').whereRaw('c.captured_at = m.captured_at and c.save_id = m.id')
  for (const scope of scopes) whereScope(changes, scope, 'change', 'c', nowMs)
  const side = (name: 'before' | 'after') => `json_build_object(
      'least', min(c.${name} collate "C"), 'most', max(c.${name} collate "C"),
      'lacking', count(*) filter (where c.${name} is null),
      'numbers', count(*) filter (where c.${name} ~ '${plainNumber}'),
      'numeric_least', min(case when c.${name} ~ '${plainNumber}' then c.${name}::numeric end)::text,
      'numeric_most', max(case when c.${name} ~ '${plainNumber}' then c.${name}::numeric end)::text
    ) as ${name}`
  const [{ rows }, masked] = await Promise.all([
    db.raw<{ rows: RunRow[] }>(
      `with m as materialized (select w.run_id, m.* from unnest(?::bigint[]) as w(run_id) cross join lateral ? m),
       held as (
         select m.run_id, c.field_id, f.base_type, count(*)::int as changes, bool_or(c.erased) as erased, ${side('before')}, ${side('after')}
           from m cross join lateral ? c join spoor.field f on f.id = c.field_id
          group by m.run_id, c.field_id, f.base_type)
       select m.run_id, u.declared, count(*)::int as saves, min(m.captured_at) as earliest, max(m.captured_at) as latest,
              array_agg(distinct m.action) as actions, count(distinct m.actor_id)::int as actors,
              count(distinct m.channel)::int as channels, count(distinct coalesce(m.reason, ''))::int as reasons,
              (select json_agg(json_build_object('typeId', t.type_id, 'records', t.records) order by t.records desc, t.type_id)
                 from (select o.type_id, count(distinct o.record_key)::int as records from m o
                        where o.run_id = m.run_id group by o.type_id) t) as types,
              (select json_agg(h order by h.changes desc, h.field_id) from held h where h.run_id = m.run_id) as fields
         from m join ledger.run u on u.id = m.run_id
        group by m.run_id, u.declared`,
      [
        boundArray([...heads.values()]),
        members(db, scopes, mostReckoned + 1, nowMs),
        // Whole values are not needed, and each save's changes lie in one month.
        changes
          .select('c.field_id', 'c.erased')
          .select(['before', 'after'].map((name) => db.raw('left(??, ?) as ??', [`c.${name}`, longestHeld + 1, name])))
          .offset(db.raw('0') as never),
      ] as never,
    ),
    maskedFields(db),
  ])
  const headOf = new Map([...heads].map(([saveId, run]) => [run, saveId]))
  return rows.map((row) => ({
    saveId: headOf.get(Number(row.run_id))!,
    runId: Number(row.run_id),
    declared: row.declared,
    saves: Math.min(row.saves, mostReckoned),
    about: row.saves > mostReckoned,
    from: row.earliest,
    to: row.latest,
    types: row.types,
    actions: row.actions,
    oneActor: row.actors === 1,
    oneChannel: row.channels === 1,
    oneReason: row.reasons === 1,
    fields: (row.fields ?? []).map((field) => ({
      fieldId: field.field_id,
      changes: field.changes,
      before: masked.has(field.field_id) ? hidden : heldBy(field, field.before),
      after: masked.has(field.field_id) ? hidden : heldBy(field, field.after),
    })),
  }))
}

const hidden: Held = { held: 'masked' }

/** What one side of some changes of one field held: one value, a span of them, or too many to say. */
function heldBy({ base_type, changes, erased }: HeldRow, side: Side): Held {
  if (erased) return { held: 'various' }
  const { lacking } = side
  if (lacking === changes) return { held: 'one', value: null }
  if (lacking > 0) return { held: 'various' }
  if ((side.least?.length ?? 0) > longestHeld || (side.most?.length ?? 0) > longestHeld) return { held: 'various' }
  if (side.least === side.most) return { held: 'one', value: side.least }
  const kind = valueKind(base_type)
  if (kind === 'number' && side.numbers === changes)
    return { held: 'span', least: side.numeric_least!, most: side.numeric_most! }
  if (kind === 'date' && /^\d{4}-\d\d-\d\d$/.test(side.least!) && /^\d{4}-\d\d-\d\d$/.test(side.most!))
    return { held: 'span', least: side.least!, most: side.most! }
  return { held: 'various' }
}

/** Whether a scope names the runs it means: then their saves are what is asked for, one by one. */
export const namesRuns = ({ how }: Scope): boolean => how !== undefined && !how.exclude && how.runs.length > 0
