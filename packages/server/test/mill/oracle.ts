import pg from 'pg'
import { quoteIdentifier as id, quoteLiteral } from '../../src/database/identifier.ts'
import type { DrawnSchema, Table } from './schema.ts'

/**
 * What was really done, told in another way than by what is judged: a row trigger of its own for every table writes whole
 * rows as PostgreSQL writes a row, and they are taken apart here.
 */
export function oracleSql(tables: readonly Table[]): string {
  return `
create schema oracle;
create table oracle.told (n bigint generated always as identity, transaction xid8 not null default pg_current_xact_id(), of text not null, before text, after text);
create function oracle.tell() returns trigger language plpgsql security definer
  set search_path = pg_catalog, public, pg_temp set datestyle = 'ISO, YMD' set timezone = 'UTC' set intervalstyle = 'postgres'
  set bytea_output = 'hex' set extra_float_digits = '1' set lc_monetary = 'C' as $oracle$
begin
  if TG_LEVEL = 'STATEMENT' then
    execute 'insert into oracle.told (of, before) select $1, (x.*)::text from only ' || TG_RELID::regclass || ' x' using TG_ARGV[0];
    return null;
  end if;
  insert into oracle.told (of, before, after)
  values (TG_ARGV[0], case when TG_OP <> 'INSERT' then old::text end, case when TG_OP <> 'DELETE' then new::text end);
  return null;
end $oracle$;
${tables
  .map(
    (table) => `
create trigger " oracle" after insert or update or delete on public.${id(table.name)} for each row execute function oracle.tell(${quoteLiteral(table.name)});
create trigger " oracle truncate" before truncate on public.${id(table.name)} for each statement execute function oracle.tell(${quoteLiteral(table.name)});`,
  )
  .join('\n')}`
}

/** A row as PostgreSQL writes it, `(1,"a,b",)`, taken apart; nothing between commas is NULL. */
export function fieldsOf(row: string): (string | null)[] {
  const fields: (string | null)[] = []
  let field: string | null = null
  let quoted = false
  for (let at = 1; at < row.length; at++) {
    const char = row[at]!
    if (quoted) {
      if (char === '"' && row[at + 1] === '"') field += row[++at]!
      else if (char === '"') quoted = false
      else field += char === '\\' ? row[++at]! : char
    } else if (char === '"') {
      quoted = true
      field ??= ''
    } else if (char === ',' || (char === ')' && at === row.length - 1)) {
      fields.push(field)
      field = null
    } else field = (field ?? '') + (char === '\\' ? row[++at]! : char)
  }
  return fields
}

/** The ledger's word for a value that PostgreSQL wrote. */
function asKept(value: string | null, type: string): string | null {
  return value !== null && type === 'boolean' ? (value === 't' ? 'true' : 'false') : value
}

/** The columns of a table in the order in which its rows are written. */
export function columnsOf(table: Table): { name: string; type: string }[] {
  // A child's row begins with its parent's columns: generated ones last, its own after them.
  return table.written ?? [...table.key, ...table.columns]
}

/** Every change that was done and lasted, as a line of text. */
export async function toldChanges(url: string, schema: DrawnSchema, tables: readonly Table[]): Promise<string[]> {
  const client = new pg.Client({ connectionString: url })
  await client.connect()
  const { rows } = await client.query<{ transaction: string; of: string; before: string | null; after: string | null }>(
    'select transaction::text, of, before, after from oracle.told order by n',
  )
  await client.end()
  const byName = new Map(tables.map((table) => [table.name, table]))
  return rows.flatMap(({ transaction, of, before, after }) => {
    const table = byName.get(of)
    if (!table) return []
    const columns = columnsOf(table)
    const [was, is] = [before, after].map((row) => (row === null ? null : fieldsOf(row)))
    return columns.flatMap(({ name, type }, at) => {
      const [b, a] = [asKept(was?.[at] ?? null, type), asKept(is?.[at] ?? null, type)]
      return b === a ? [] : [changeLine(transaction, of, name, b, a)]
    })
  })
}

export function changeLine(
  transaction: string,
  table: string,
  column: string,
  before: string | null,
  after: string | null,
): string {
  return JSON.stringify([transaction, table, column, before, after])
}

/** What a table holds, each row by column name. */
export async function heldRows(url: string, table: Table): Promise<Record<string, string | null>[]> {
  const client = new pg.Client({
    connectionString: url,
    options: `-c search_path=pg_catalog -c timezone=UTC -c lc_monetary=C -c datestyle=ISO`,
  })
  await client.connect()
  const only = table.parent === null ? '' : 'only '
  const { rows } = await client.query<{ row: string }>(
    `select (x.*)::text as row from ${only}public.${id(table.name)} x`,
  )
  await client.end()
  const columns = columnsOf(table)
  return rows.map(({ row }) => {
    const fields = fieldsOf(row)
    return Object.fromEntries(columns.map(({ name, type }, at) => [name, asKept(fields[at] ?? null, type)]))
  })
}
