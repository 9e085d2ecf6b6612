import { boundArray, type Database } from '../database/knex.ts'

/** How many rows a source reckons that tables hold, partitions and inheriting tables included, by relation number. */
export async function aboutRows(
  source: Database,
  relationIds: readonly (string | number)[],
): Promise<Map<string, number>> {
  const { rows } = await source.raw<{ rows: { relation: string; about: string }[] }>(
    `select w.relation::text as relation, sum(greatest(c.reltuples, 0))::bigint::text as about
       from unnest(?::oid[]) as w(relation)
       join pg_catalog.pg_class c on c.oid = w.relation
         or c.oid in (select inhrelid from pg_catalog.pg_inherits where inhparent = w.relation)
      group by 1`,
    [boundArray(relationIds)],
  )
  return new Map(rows.map(({ relation, about }) => [relation, Number(about)]))
}
