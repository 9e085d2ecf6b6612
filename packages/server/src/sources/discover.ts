import type { Obstacle } from '@spoor/contract'
import { listed } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { quoteIdentifier, quoteLiteral } from '../database/identifier.ts'

export interface DiscoveredColumn {
  attributeNumber: number
  name: string
  /** `pg_attribute.atttypid`. */
  typeId: number
  /** As PostgreSQL writes it: `numeric(10,2)`. */
  dataType: string
  /** The same as it can be written in a cast whatever the search path is. */
  castType: string
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
  /** Whether the key is checked only when a statement or a transaction ends. */
  keyDeferrable: boolean
  columns: DiscoveredColumn[]
  foreignKeys: DiscoveredForeignKey[]
  /** Partitions and inheriting tables below it, at any depth. */
  descendants: { schema: string; table: string; leaf: boolean }[]
  partitioned: boolean
  /** Tables it inherits from, at any height. */
  ancestors: { schema: string; table: string }[]
  /** Whether a trigger, a cascade or the like of the business's may write while a statement on it goes on. */
  nests: boolean
  obstacle: Obstacle | null
}

interface TableRow {
  relation_id: string
  schema_name: string
  table_name: string
  comment: string | null
  owner: string
  /** Owners of the table and of those above and below it whose rights the login has not. */
  strange_owners: string[]
  may_create_schema: boolean
  database_name: string
  login: string
  key_columns: string[] | null
  key_deferrable: boolean | null
  descendants: { schema: string; table: string; leaf: boolean }[]
  foreign_descendants: string[]
  partitioned: boolean
  ancestors: { schema: string; table: string }[]
  nests: boolean
  subscribed: boolean
  nullable_keys: string[] | null
  partition_columns: string[]
  partition_parts: number
  foreign_keys: { columns: string[]; to: number; to_columns: string[]; cascades: boolean }[]
  columns: {
    number: number
    oid: number
    name: string
    type: string
    cast: string
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
select c.oid::int8::text as relation_id, n.nspname as schema_name, c.relname as table_name,
  obj_description(c.oid, 'pg_class') as comment,
  pg_get_userbyid(c.relowner) as owner,
  array(with recursive above(oid) as (select c.oid union select i.inhparent from pg_inherits i join above a on i.inhrelid = a.oid),
          below(oid) as (select c.oid union select i.inhrelid from pg_inherits i join below b on i.inhparent = b.oid)
     select distinct pg_get_userbyid(f.relowner)::text from (table above union table below) family join pg_class f on f.oid = family.oid
      where not pg_has_role(current_user, f.relowner, 'USAGE') order by 1) as strange_owners,
  has_database_privilege(current_database(), 'CREATE') or to_regnamespace('spoor_capture') is not null as may_create_schema,
  current_database() as database_name, current_user as login,
  (select array_agg(a.attname::text order by k.place)
     from (select i.indkey, i.indnkeyatts from pg_index i
            where i.indrelid = c.oid and i.indisunique and i.indisvalid and i.indpred is null and i.indexprs is null
              and not exists (select from unnest(i.indkey::int[]) with ordinality x(num, place)
                                join pg_attribute ka on ka.attrelid = c.oid and ka.attnum = x.num
                               where x.place <= i.indnkeyatts and not ka.attnotnull)
            order by i.indisprimary desc, i.indimmediate desc, i.indnkeyatts, i.indexrelid limit 1) best,
          unnest(best.indkey::int[]) with ordinality k(num, place)
     join pg_attribute a on a.attrelid = c.oid and a.attnum = k.num
    where k.place <= best.indnkeyatts) as key_columns,
  (select bool_or(not i.indimmediate) from pg_index i where i.indrelid = c.oid and i.indisunique) as key_deferrable,
  (select array_agg(a.attname::text order by k.place)
     from (select i.indkey, i.indnkeyatts from pg_index i
            where i.indrelid = c.oid and i.indisunique and i.indisvalid and i.indpred is null and i.indexprs is null
            order by i.indnkeyatts, i.indexrelid limit 1) nearly,
          unnest(nearly.indkey::int[]) with ordinality k(num, place)
     join pg_attribute a on a.attrelid = c.oid and a.attnum = k.num and not a.attnotnull
    where k.place <= nearly.indnkeyatts) as nullable_keys,
  coalesce((select json_agg(json_build_object(
      'number', a.attnum, 'oid', a.atttypid::int8, 'name', a.attname, 'type', format_type(a.atttypid, a.atttypmod),
      'cast', case when ct.typnamespace = 'pg_catalog'::regnamespace then format_type(a.atttypid, a.atttypmod)
                   else ct.typnamespace::regnamespace::text || '.' || quote_ident(ct.typname) end,
      -- Somebody may call a type of their own as one of PostgreSQL's is called.
      'base', case when bt.typnamespace <> 'pg_catalog'::regnamespace and to_regtype('pg_catalog.' || quote_ident(bt.typname)) is not null
                   then bt.typnamespace::regnamespace || '.' || bt.typname else bt.typname end, 'typmod', greatest(a.atttypmod, b.typmod),
      'comment', col_description(c.oid, a.attnum), 'generated', a.attgenerated <> '', 'required', a.attnotnull) order by a.attnum)
     from pg_attribute a join base_of b on b.oid = a.atttypid join pg_type bt on bt.oid = b.base join pg_type ct on ct.oid = a.atttypid
    where a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped), '[]') as columns,
  coalesce((select json_agg(json_build_object('to', f.confrelid::int8, 'cascades', f.confdeltype = 'c',
      'columns', (select json_agg(fa.attname order by k.place) from unnest(f.conkey) with ordinality k(num, place) join pg_attribute fa on fa.attrelid = f.conrelid and fa.attnum = k.num),
      'to_columns', (select json_agg(fa.attname order by k.place) from unnest(f.confkey) with ordinality k(num, place) join pg_attribute fa on fa.attrelid = f.confrelid and fa.attnum = k.num)) order by f.conname)
     from pg_constraint f where f.conrelid = c.oid and f.contype = 'f' and f.conparentid = 0), '[]') as foreign_keys,
  coalesce((with recursive below(oid) as (select inhrelid from pg_inherits where inhparent = c.oid union select i.inhrelid from pg_inherits i join below b on i.inhparent = b.oid)
     select json_agg(json_build_object('schema', dn.nspname, 'table', d.relname, 'leaf', d.relkind = 'r') order by dn.nspname, d.relname)
       from below join pg_class d on d.oid = below.oid join pg_namespace dn on dn.oid = d.relnamespace where d.relkind in ('r', 'p')), '[]') as descendants,
  array(with recursive below(oid) as (select inhrelid from pg_inherits where inhparent = c.oid union select i.inhrelid from pg_inherits i join below b on i.inhparent = b.oid)
     select d.oid::regclass::text from below join pg_class d on d.oid = below.oid where d.relkind = 'f' order by 1) as foreign_descendants,
  c.relkind = 'p' as partitioned,
  array(select a.attname::text from pg_partitioned_table p, unnest(p.partattrs::int[]) with ordinality k(num, place)
         join pg_attribute a on a.attrelid = c.oid and a.attnum = k.num where p.partrelid = c.oid order by k.place) as partition_columns,
  coalesce((select p.partnatts::int from pg_partitioned_table p where p.partrelid = c.oid), 0) as partition_parts,
  coalesce((with recursive above(oid) as (select inhparent from pg_inherits where inhrelid = c.oid union select i.inhparent from pg_inherits i join above a on i.inhrelid = a.oid)
     select json_agg(json_build_object('schema', an.nspname, 'table', a.relname) order by an.nspname, a.relname)
       from above join pg_class a on a.oid = above.oid join pg_namespace an on an.oid = a.relnamespace), '[]') as ancestors,
  exists (with recursive below(oid) as (select c.oid union select i.inhrelid from pg_inherits i join below b on i.inhparent = b.oid)
     select from below join pg_trigger g on g.tgrelid = below.oid join pg_proc f on f.oid = g.tgfoid
      where f.pronamespace <> coalesce(to_regnamespace('spoor_capture'), 0)
        and f.proname not in ('RI_FKey_check_ins', 'RI_FKey_check_upd', 'RI_FKey_noaction_del', 'RI_FKey_noaction_upd', 'RI_FKey_restrict_del', 'RI_FKey_restrict_upd')) as nests,
  exists (select from pg_subscription_rel s where s.srrelid = c.oid) as subscribed
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
  'name',
  'oid',
])

/** Everything in a source that could be tracked, with what stands in the way of what cannot. */
export async function discover(db: Database): Promise<DiscoveredTable[]> {
  const { rows } = await db.raw<{ rows: TableRow[] }>(query)
  return rows.map((row) => ({
    relationId: Number(row.relation_id),
    schema: row.schema_name,
    table: row.table_name,
    comment: row.comment,
    keyColumns: row.key_columns ?? [],
    keyDeferrable: row.key_deferrable ?? false,
    columns: row.columns.map((column) => ({
      attributeNumber: column.number,
      name: column.name,
      typeId: column.oid,
      dataType: column.type,
      castType: column.cast,
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
    partitioned: row.partitioned,
    ancestors: row.ancestors,
    nests: row.nests,
    obstacle: obstacleOf(row),
  }))
}

function obstacleOf(row: TableRow): Obstacle | null {
  const table = `${quoteIdentifier(row.schema_name)}.${quoteIdentifier(row.table_name)}`
  const called = `${row.schema_name}.${row.table_name}`
  if (!row.key_columns) return keyObstacle(row, table)
  if (row.foreign_descendants.length > 0)
    return {
      words: `Of ${called}, ${row.foreign_descendants.join(', ')} lies in another database, where PostgreSQL lets no trigger see what a statement changed.`,
      remedy: null,
    }
  if (row.subscribed)
    return {
      words: `${called} receives its rows by logical replication, for which PostgreSQL fires no statement triggers. Track it where it is written.`,
      remedy: null,
    }
  if (row.strange_owners.length > 0) {
    return {
      words: `The login ${row.login} may not create triggers that always fire on ${row.schema_name}.${row.table_name}; that takes the rights of ${row.strange_owners.includes(row.owner) ? 'its owner' : 'the owner of a table above or below it'}, ${listed(row.strange_owners)}.`,
      remedy: `grant ${row.strange_owners.map(quoteIdentifier).join(', ')} to ${quoteIdentifier(row.login)};`,
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

/** What would give a table without a key one: the least that works for this table. */
function keyObstacle(row: TableRow, table: string): Obstacle {
  const called = `${row.schema_name}.${row.table_name}`
  if (row.nullable_keys)
    return {
      words: `${called} has no primary key, so a change could not be tied to one record. It has a unique set of columns, of which ${row.nullable_keys.join(', ')} may be empty; where they never are, that can be said.`,
      remedy: `alter table ${table} ${row.nullable_keys.map((name) => `alter column ${quoteIdentifier(name)} set not null`).join(', ')};`,
    }
  const column = freeName(new Set(row.columns.map(({ name }) => name)))
  const words = `${called} has no primary key, so a change could not be tied to one record.`
  if (row.partitioned) return partitionedKeyObstacle(row, table, column)
  return {
    words,
    remedy: `alter table ${table} add column ${column} bigint generated always as identity primary key;`,
  }
}

function freeName(taken: ReadonlySet<string>): string {
  for (const name of ['id', 'row_id', 'record_id']) if (!taken.has(name)) return name
  for (let at = 2; ; at++) if (!taken.has(`id_${at}`)) return `id_${at}`
}

/** A key of a partitioned table holds what it is partitioned by, and no identity column can be added to one. */
function partitionedKeyObstacle(row: TableRow, table: string, column: string): Obstacle {
  const called = `${row.schema_name}.${row.table_name}`
  if (row.partition_columns.length < row.partition_parts)
    return {
      words: `${called} has no primary key, so a change could not be tied to one record; and PostgreSQL allows it none, since it is partitioned by an expression. Its partitions could have keys of their own, but would not be one record type.`,
      remedy: null,
    }
  const sequence = `${quoteIdentifier(row.schema_name)}.${quoteIdentifier(`${row.table_name.slice(0, 20)}_${column}_numbers`)}`
  return {
    words: `${called} has no primary key, so a change could not be tied to one record. It is partitioned, so its key also holds what it is partitioned by.`,
    remedy: `create sequence ${sequence};
alter table ${table} add column ${column} bigint not null default nextval(${quoteLiteral(sequence)});
alter table ${table} add primary key (${[...row.partition_columns, column].map(quoteIdentifier).join(', ')});`,
  }
}
