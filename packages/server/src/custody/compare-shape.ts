import type { Database } from '../database/knex.ts'
import type { Mismatch } from './mismatch.ts'

interface ShapeRow {
  name: string
  what: string
}

/**
 * What would show one thing to whoever checks and another to whoever reads: a view in the place of a table, a policy on
 * its rows, a rule or a trigger. Spoor's own ledger has none of them.
 */
const shapes = `
  select c.relname as name, case c.relkind when 'v' then 'a view' when 'm' then 'a stored view' else 'a foreign table' end || ' stands where only tables are' as what
    from pg_catalog.pg_class c where c.relnamespace = 'ledger'::regnamespace and c.relkind in ('v', 'm', 'f')
  union all
  select c.relname, 'a policy hides or shows rows'
    from pg_catalog.pg_class c where c.relnamespace = 'ledger'::regnamespace and (c.relrowsecurity or c.relforcerowsecurity)
  union all
  select c.relname, 'a rule (' || r.rulename || ') rewrites what is asked'
    from pg_catalog.pg_rewrite r join pg_catalog.pg_class c on c.oid = r.ev_class where c.relnamespace = 'ledger'::regnamespace and c.relkind <> 'v'
  union all
  select c.relname, 'a trigger (' || t.tgname || ') acts on what is written'
    from pg_catalog.pg_trigger t join pg_catalog.pg_class c on c.oid = t.tgrelid where c.relnamespace = 'ledger'::regnamespace and not t.tgisinternal
  order by 1, 2 limit 50`

/** Whether the ledger's tables are still tables and nothing else. */
export async function compareShape(db: Database): Promise<Mismatch[]> {
  const { rows } = await db.raw<{ rows: ShapeRow[] }>(shapes)
  return rows.map(({ name, what }) => ({ place: `shape ${name} ${what}`, words: `The ledger’s table ${name} is not as Spoor made it: ${what}.` })) // prettier-ignore
}
