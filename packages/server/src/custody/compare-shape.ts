import type { Database } from '../database/knex.ts'
import { covered, isGroup } from '../evidence/content.ts'
import type { Mismatch } from '../alarms/mismatch.ts'

interface ShapeRow {
  name: string
  what: string
}

/**
 * What would show one thing to whoever checks and another to whoever reads: a view in the place of a table, a policy on
 * its rows, a rule or a trigger. Spoor's own tables have none of them, but for the triggers that note what is written.
 */
const shapes = `
  with tables as (
    select c.oid, n.nspname || '.' || c.relname as name, c.relkind, c.relrowsecurity or c.relforcerowsecurity as secured
      from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where n.nspname in ('ledger', 'spoor'))
  select t.name, case t.relkind when 'v' then 'a view' when 'm' then 'a stored view' else 'a foreign table' end || ' stands where only tables are' as what
    from tables t where t.relkind in ('v', 'm', 'f')
  union all
  select t.name, 'a policy hides or shows rows' from tables t where t.secured
  union all
  select t.name, 'a rule (' || r.rulename || ') rewrites what is asked'
    from pg_catalog.pg_rewrite r join tables t on t.oid = r.ev_class where t.relkind <> 'v'
  union all
  select t.name, 'a trigger (' || g.tgname || ') acts on what is written'
    from pg_catalog.pg_trigger g join tables t on t.oid = g.tgrelid
   where not g.tgisinternal and not exists (select from pg_catalog.jsonb_to_recordset(cast(:own as jsonb)) as o (name text, trigger text) where o.name = t.name and o.trigger = g.tgname)
  union all
  select o.name, 'its trigger ' || o.trigger || ', which notes what is written, is missing or switched off'
    from pg_catalog.jsonb_to_recordset(cast(:own as jsonb)) as o (name text, trigger text)
   where not exists (select from pg_catalog.pg_trigger g join tables t on t.oid = g.tgrelid where t.name = o.name and g.tgname = o.trigger and g.tgenabled = 'O')
  order by 1, 2 limit 50`

const own = covered.flatMap((one) =>
  (isGroup(one) ? ['touch_new', 'touch_change', 'touch_gone'] : ['touch']).map((trigger) => ({
    name: one.table,
    trigger,
  })),
)

/** Whether Spoor's tables are still tables and nothing else. */
export async function compareShape(db: Database): Promise<Mismatch[]> {
  const { rows } = await db.raw<{ rows: ShapeRow[] }>(shapes, { own: JSON.stringify(own) })
  return rows.map(({ name, what }) => ({
    place: `shape ${name} ${what}`,
    words: `The table ${name} is not as Spoor made it: ${what}.`,
  }))
}
