import type { Obstacle } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { quoteIdentifier } from '../database/identifier.ts'

export interface DiscoveredColumn {
  attributeNumber: number
  name: string
  /** `pg_attribute.atttypid`. */
  typeId: number
  /** As PostgreSQL writes it: `numeric(10,2)`. */
  dataType: string
  /** Catalogue name with domains resolved: `numeric`, `_text`. */
  baseType: string
  /** Whether `=` of the type tells apart every two values whose text differs. */
  plainEquality: boolean
  comment: string | null
  generated: boolean
  required: boolean
}

/** A reference of one table to another. */
export interface DiscoveredForeignKey {
  columns: string[]
  toRelationId: number
  toColumns: string[]
  /** Whether a row goes when the one it refers to goes. */
  cascades: boolean
}

export interface DiscoveredTable {
  relationId: number
  schema: string
  table: string
  comment: string | null
  /** Columns that identify a row, in key order; empty when there is none. */
  keyColumns: string[]
  columns: DiscoveredColumn[]
  foreignKeys: DiscoveredForeignKey[]
  /** Partitions and inheriting tables below it, at any depth. */
  descendants: { schema: string; table: string }[]
  obstacle: Obstacle | null
}

interface TableRow {
  relation_id: number
  schema_name: string
  table_name: string
  comment: string | null
  owner: string
  may_own: boolean
  may_create_schema: boolean
  database_name: string
  login: string
  key_columns: string[] | null
  descendants: { schema: string; table: string }[]
  foreign_keys: { columns: string[]; to: number; to_columns: string[]; cascades: boolean }[]
  columns: {
    number: number
    oid: number
    name: string
    type: string
    base: string
    typmod: number
    comment: string | null
    generated: boolean
    required: boolean
  }[]
}

// A key is the primary key or, failing that, a whole unique index over columns that are never null.
const query = `
with recursive base_of(oid, base, typmod) as (
  select t.oid, t.oid, t.typtypmod from pg_type t where t.typtype <> 'd'
  union all
  select d.oid, b.base, greatest(d.typtypmod, b.typmod) from pg_type d join base_of b on d.typbasetype = b.oid where d.typtype = 'd'
)
select c.oid::int8::int as relation_id, n.nspname as schema_name, c.relname as table_name,
  obj_description(c.oid, 'pg_class') as comment,
  pg_get_userbyid(c.relowner) as owner,
  pg_has_role(current_user, c.relowner, 'USAGE') as may_own,
  has_database_privilege(current_database(), 'CREATE') or to_regnamespace('spoor_capture') is not null as may_create_schema,
  current_database() as database_name, current_user as login,
  (select array_agg(a.attname::text order by k.place)
     from (select i.indkey from pg_index i
            where i.indrelid = c.oid and i.indisunique and i.indisvalid and i.indpred is null and i.indexprs is null
              and not exists (select from unnest(i.indkey::int[]) with ordinality x(num, place)
                                join pg_attribute ka on ka.attrelid = c.oid and ka.attnum = x.num
                               where x.place <= i.indnkeyatts and not ka.attnotnull)
            order by i.indisprimary desc, i.indnkeyatts, i.indexrelid limit 1) best,
          unnest(best.indkey::int[]) with ordinality k(num, place)
     join pg_attribute a on a.attrelid = c.oid and a.attnum = k.num) as key_columns,
  coalesce((select json_agg(json_build_object(
      'number', a.attnum, 'oid', a.atttypid::int8, 'name', a.attname, 'type', format_type(a.atttypid, a.atttypmod),
      'base', bt.typname, 'typmod', greatest(a.atttypmod, b.typmod),
      'comment', col_description(c.oid, a.attnum), 'generated', a.attgenerated <> '', 'required', a.attnotnull) order by a.attnum)
     from pg_attribute a join base_of b on b.oid = a.atttypid join pg_type bt on bt.oid = b.base
    where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped), '[]') as columns,
  coalesce((select json_agg(json_build_object('to', f.confrelid::int8, 'cascades', f.confdeltype = 'c',
      'columns', (select json_agg(fa.attname order by k.place) from unnest(f.conkey) with ordinality k(num, place) join pg_attribute fa on fa.attrelid = f.conrelid and fa.attnum = k.num),
      'to_columns', (select json_agg(fa.attname order by k.place) from unnest(f.confkey) with ordinality k(num, place) join pg_attribute fa on fa.attrelid = f.confrelid and fa.attnum = k.num)) order by f.conname)
     from pg_constraint f where f.conrelid = c.oid and f.contype = 'f' and f.conparentid = 0), '[]') as foreign_keys,
  coalesce((with recursive below(oid) as (select inhrelid from pg_inherits where inhparent = c.oid union select i.inhrelid from pg_inherits i join below b on i.inhparent = b.oid)
     select json_agg(json_build_object('schema', dn.nspname, 'table', d.relname) order by dn.nspname, d.relname)
       from below join pg_class d on d.oid = below.oid join pg_namespace dn on dn.oid = d.relnamespace where d.relkind in ('r', 'p')), '[]') as descendants
from pg_class c join pg_namespace n on n.oid = c.relnamespace
where c.relkind in ('r', 'p') and not c.relispartition
  and n.nspname not in ('pg_catalog', 'information_schema', 'spoor_capture') and n.nspname !~ '^pg_(toast|temp)'
order by n.nspname, c.relname`

/** Types whose `=` holds only between identical texts; all others are compared by their text. */
const plainTypes = new Set([
  'int2',
  'int4',
  'int8',
  'bool',
  'date',
  'timestamp',
  'timestamptz',
  'uuid',
  'bytea',
  'text',
  'varchar',
  'bpchar',
  'name',
  'oid',
])

/** Everything in a source that could be tracked, with what stands in the way of what cannot. */
export async function discover(db: Database): Promise<DiscoveredTable[]> {
  const { rows } = await db.raw<{ rows: TableRow[] }>(query)
  return rows.map((row) => ({
    relationId: row.relation_id,
    schema: row.schema_name,
    table: row.table_name,
    comment: row.comment,
    keyColumns: row.key_columns ?? [],
    columns: row.columns.map((column) => ({
      attributeNumber: column.number,
      name: column.name,
      typeId: column.oid,
      dataType: column.type,
      baseType: column.base,
      // With a fixed scale, equal numerics have equal texts.
      plainEquality: plainTypes.has(column.base) || (column.base === 'numeric' && column.typmod !== -1),
      comment: column.comment,
      generated: column.generated,
      required: column.required,
    })),
    foreignKeys: row.foreign_keys.map((key) => ({
      columns: key.columns,
      toRelationId: key.to,
      toColumns: key.to_columns,
      cascades: key.cascades,
    })),
    descendants: row.descendants,
    obstacle: obstacleOf(row),
  }))
}

function obstacleOf(row: TableRow): Obstacle | null {
  const table = `${quoteIdentifier(row.schema_name)}.${quoteIdentifier(row.table_name)}`
  if (!row.key_columns) {
    return {
      words: `${row.schema_name}.${row.table_name} has no primary key, so a change could not be tied to one record.`,
      remedy: `alter table ${table} add column id bigint generated always as identity primary key;`,
    }
  }
  if (!row.may_own) {
    return {
      words: `The login ${row.login} may not create triggers that always fire on ${row.schema_name}.${row.table_name}; that takes the rights of its owner, ${row.owner}.`,
      remedy: `grant ${quoteIdentifier(row.owner)} to ${quoteIdentifier(row.login)};`,
    }
  }
  if (!row.may_create_schema) {
    return {
      words: `The login ${row.login} may not create the schema spoor_capture in the database ${row.database_name}.`,
      remedy: `grant create on database ${quoteIdentifier(row.database_name)} to ${quoteIdentifier(row.login)};`,
    }
  }
  return null
}
