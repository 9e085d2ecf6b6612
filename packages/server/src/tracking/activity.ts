import { activityBetween, type ActivityRate } from '@spoor/core'
import type { Database } from '../database/knex.ts'

export const windowDays = 28
const dayMs = 86_400_000
const keptDays = 60
const sampleEveryMs = 55 * 60_000

/**
 * Reads the source's own counters of rows written, at most once an hour unless `now`. They count what was rolled
 * back too, so they are an upper bound.
 */
export async function sampleActivity(
  db: Database,
  source: Database,
  sourceId: number,
  { now }: { now: boolean },
): Promise<void> {
  const last = await db('spoor.activity as a')
    .join('spoor.record_type as t', 't.id', 'a.type_id')
    .where('t.source_id', sourceId)
    .max<{ max: string | null }[]>('a.at')
  const latest = last[0]?.max
  if (!now && latest && Date.now() - Date.parse(latest) < sampleEveryMs) return
  const { rows } = await source.raw<{
    rows: { relation: string; created: string; changed: string; deleted: string }[]
  }>(
    `with recursive below(root, oid) as (
       select oid, oid from pg_class where relkind in ('r', 'p') and not relispartition
       union all select b.root, i.inhrelid from below b join pg_inherits i on i.inhparent = b.oid)
     select b.root::int8::text as relation, sum(s.n_tup_ins)::text as created, sum(s.n_tup_upd)::text as changed, sum(s.n_tup_del)::text as deleted
       from below b join pg_stat_user_tables s on s.relid = b.oid group by b.root`,
  )
  await db.raw(
    `insert into spoor.activity (type_id, at, created, changed, deleted)
     select t.id, clock_timestamp(), r.created, r.changed, r.deleted
       from jsonb_to_recordset(?::jsonb) as r(relation bigint, created bigint, changed bigint, deleted bigint)
       join spoor.record_type t on t.relation_id = r.relation and t.source_id = ? and t.present`,
    [JSON.stringify(rows), sourceId],
  )
  await db('spoor.activity')
    .where('at', '<', new Date(Date.now() - keptDays * dayMs).toISOString())
    .delete()
}

export interface Rates {
  /** What the source says was written, by type. */
  written: ReadonlyMap<number, ActivityRate>
  /** Saves a day by type, and changes a day by field, as the ledger has them. */
  saves: ReadonlyMap<number, number>
  fieldChanges: ReadonlyMap<number, number>
}

/** How much is written in a source and how much of it reaches the ledger, over the last 28 days at most. */
export async function readRates(db: Database, sourceId: number): Promise<Rates> {
  const since = new Date(Date.now() - windowDays * dayMs).toISOString()
  const { rows: readings } = await db.raw<{
    rows: { type_id: number; at: string; created: string; changed: string; deleted: string }[]
  }>(
    `select a.* from spoor.activity a join spoor.record_type t on t.id = a.type_id
      where t.source_id = ? and a.at >= ? order by a.type_id, a.at`,
    [sourceId, since],
  )
  const byType = new Map<number, typeof readings>()
  for (const row of readings) {
    const list = byType.get(row.type_id)
    if (list) list.push(row)
    else byType.set(row.type_id, [row])
  }
  const written = new Map<number, ActivityRate>()
  for (const [typeId, list] of byType) {
    const rate = activityBetween(
      list.map((row) => ({
        atMs: Date.parse(row.at),
        created: Number(row.created),
        changed: Number(row.changed),
        deleted: Number(row.deleted),
      })),
    )
    if (rate) written.set(typeId, rate)
  }
  const { rows: kept } = await db.raw<{ rows: { id: number; field_id: number | null; count: string; days: string }[] }>(
    `with tracked as (
       select f.type_id, f.id as field_id, extract(epoch from now() - greatest(min(c.from_at), ?::timestamptz)) / 86400 as days
         from spoor.coverage c join spoor.field f on f.id = c.field_id join spoor.record_type t on t.id = f.type_id
        where t.source_id = ? and c.to_at is null group by f.type_id, f.id)
     select h.type_id as id, null::int as field_id, sum(h.saves) as count, (select max(days) from tracked where tracked.type_id = h.type_id) as days
       from ledger.hour_actor h where h.hour >= ? and h.type_id in (select type_id from tracked) group by h.type_id
     union all
     select t.type_id, t.field_id, sum(h.changes), max(t.days)
       from tracked t join ledger.hour_field h on h.type_id = t.type_id and h.field_id = t.field_id and h.hour >= ? group by t.type_id, t.field_id`,
    [since, sourceId, since, since],
  )
  const saves = new Map<number, number>()
  const fieldChanges = new Map<number, number>()
  for (const row of kept) {
    const perDay = Number(row.count) / Math.max(1, Number(row.days))
    if (row.field_id === null) saves.set(row.id, perDay)
    else fieldChanges.set(row.field_id, perDay)
  }
  return { written, saves, fieldChanges }
}

/** Rows a day by kind, from what was written between two readings; a spell shorter than a day counts as one. */
export function perDay(rate: ActivityRate): { created: number; changed: number; deleted: number; all: number } {
  const days = Math.max(1, (rate.toMs - rate.fromMs) / dayMs)
  const [created, changed, deleted] = [rate.created / days, rate.changed / days, rate.deleted / days]
  return { created, changed, deleted, all: created + changed + deleted }
}
