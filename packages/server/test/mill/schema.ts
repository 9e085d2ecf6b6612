import { quoteIdentifier as id, quoteLiteral } from '../../src/database/identifier.ts'
import type { Chance } from './chance.ts'
import { keyTypes, literal, types, typeSchema } from './values.ts'

export interface Column {
  name: string
  type: string
  generated: boolean
  /** Whether a row cannot be without a value of it. */
  required?: boolean
}

/** One table that somebody might have, and what is needed to write to it. */
export interface Table {
  name: string
  sql: string
  key: Column[]
  columns: Column[]
  /** The columns in the order in which a row is written, where that is not the key and then the others. */
  written?: Column[]
  /** Whether its key is checked at the end of a statement, or of the transaction. */
  deferrable: 'no' | 'statement' | 'transaction'
  partitioned: boolean
  /** A table that rows of this one are written through, and one that holds some of them itself. */
  parent: string | null
  partitions: string[]
  forced: boolean
  /** Whether a trigger of its own removes rows of the key that is being inserted. */
  replaces?: boolean
}

/** Names that generated SQL may trip over: its own, words of the language, quotes of every sort. */
const oddNames: readonly string[] = [
  'r',
  'o',
  'n',
  'x',
  'c1',
  'c2',
  'place',
  'whole',
  'more',
  'spoor',
  'old',
  'new',
  'old_rows',
  'new_rows',
  'v_at',
  'v_delta',
  'v_key',
  'v_salt',
  'delta',
  'key',
  'key_before',
  'label',
  'action',
  'context',
  'login',
  'seq',
  'depth',
  'transaction_id',
  'select',
  'table',
  'order',
  'user',
  'null',
  'true',
  'from',
  'current_user',
  'session_user',
  'end',
  'begin',
  'row',
  'found',
  'TG_OP',
  'tg_relid',
  'sqlstate',
  'ctid_',
  'written',
  'capturing',
  'address',
  'said',
  'app',
  '$spoor$',
  '$spoor1$',
  '$capture$',
  '«1»',
  '«if 1»',
  '«fi 1»',
  '"',
  '""',
  "'",
  "''",
  '\\',
  '\\\\',
  '%',
  '%s',
  '%1$I',
  '$1',
  '$2',
  ':name',
  '?',
  '??',
  '; --',
  '/* */',
  'a b',
  ' lead',
  'Ünïcödé',
  '名前',
  '💧',
  'שלום',
  '\u202eabc',
  '\t',
  'line\nbreak',
  '\u0001',
  'columns',
  'relation',
  '0',
  '1e5',
  'a.b',
  '"a"."b"',
  '{}',
  '{"a":1}',
  '&amp;',
  'x'.repeat(63),
]

function names(chance: Chance, count: number, taken: Set<string>): string[] {
  const found: string[] = []
  while (found.length < count) {
    const name = chance.yes(0.5)
      ? chance.one(oddNames)
      : `${chance.one(['amount', 'Status', 'noted_on', 'value', 'ref'])}_${chance.whole(count * 3)}`
    if (taken.has(name)) continue
    taken.add(name)
    found.push(name)
  }
  return found
}

const widths = [1, 2, 3, 5, 8, 12, 20, 30, 60, 101, 130]

function drawTable(chance: Chance, name: string, wide: boolean): Table {
  const partitioned = chance.yes(0.2)
  const taken = new Set<string>()
  const keyCount = chance.one([1, 1, 1, 2, 3])
  const key = names(chance, keyCount, taken).map((column, at): Column => ({
    name: column,
    type: at === 0 && partitioned ? 'integer' : chance.one(keyTypes),
    generated: false,
  }))
  const columns = names(chance, wide ? 1596 : chance.one(widths), taken).map((column): Column => ({
    name: column,
    type: wide ? 'integer' : chance.one(types),
    generated: false,
  }))
  const deferrable = partitioned ? 'no' : chance.one(['no', 'no', 'no', 'statement', 'transaction'] as const)
  const table = { name, key, columns, deferrable, partitioned, parent: null, partitions: [], forced: false }
  return { ...table, ...tableSql(chance, table) }
}

function tableSql(chance: Chance, table: Omit<Table, 'sql'>): Pick<Table, 'sql' | 'partitions' | 'columns'> {
  const on = `public.${id(table.name)}`
  const columns = [...table.columns]
  const all = [...table.key, ...columns]
  const keyColumns = table.key.map(({ name }) => id(name)).join(', ')
  const when = { no: '', statement: ' deferrable', transaction: ' deferrable initially deferred' }[table.deferrable]
  const extra =
    columns[0] && !table.partitioned && ['integer', 'text'].includes(columns[0].type) ? columns[0] : undefined
  const constraint =
    extra && when === '' && chance.yes(0.3)
      ? `unique (${keyColumns}) include (${id(extra.name)})`
      : `primary key (${keyColumns})${when}`
  const definitions = all.map(({ name, type }, at) => `${id(name)} ${type}${at < table.key.length ? ' not null' : ''}`)
  const numbers = columns.filter(({ type }) => type === 'integer')
  if (numbers.length > 0 && !table.partitioned && chance.yes(0.3)) {
    const generated: Column = { name: 'follows', type: 'integer', generated: true }
    columns.push(generated)
    definitions.push(`"follows" integer generated always as (${id(numbers[0]!.name)} / 2) stored`)
  }
  const partitions = table.partitioned ? [0, 1].map((at) => `${table.name}_p${at}`) : []
  const split = table.partitioned ? ` partition by hash (${id(table.key[0]!.name)})` : ''
  const parts = partitions.map(
    (part, at) => `create table public.${id(part)} partition of ${on} for values with (modulus 2, remainder ${at});`,
  )
  return {
    columns,
    partitions,
    sql: `create table ${on} (${definitions.join(', ')}, ${constraint})${split};\n${parts.join('\n')}\n`,
  }
}

let made = 0

/** A trigger of the business's: some set a value, some write rows of their own while the statement goes on. */
function drawTrigger(chance: Chance, table: Table, tables: readonly Table[]): string {
  const on = `public.${id(table.name)}`
  const name = `${chance.one(['aaa', 'mmm', 'zzz'])}_${++made}`
  const body = (timing: string, does: string, each = 'row', guard = 'pg_trigger_depth() < 3') => `
create function public.${name}() returns trigger language plpgsql as $business$
#variable_conflict use_column
begin
  if ${guard} then ${does} end if;
  return ${each === 'row' && timing.startsWith('before') ? 'coalesce(new, old)' : 'null'};
end $business$;
create ${timing.includes('deferrable') ? 'constraint ' : ''}trigger ${name} ${timing.replace('ON', `on ${on}`)} for each ${each} execute function public.${name}();\n`
  const settable = table.columns.filter((column) => !column.generated)
  const column = settable.length > 0 ? chance.one(settable) : null
  if (!column) return ''
  const same = (row: string) => table.key.map((key) => `${id(key.name)} = ${row}.${id(key.name)}`).join(' and ')
  const value = literal(chance, column.type, true)
  const set = `update ${on} set ${id(column.name)} = ${value} where ${same('new')};`
  const other = chance.one(tables)
  const writable = other.columns.filter((one) => !one.generated)
  const elsewhere = writable[0]
    ? `update public.${id(other.name)} set ${id(writable[0].name)} = ${literal(chance, writable[0].type, true)};`
    : set
  const kind = chance.whole(8)
  table.replaces = kind === 2 || kind === 3
  switch (kind) {
    case 0:
      return body('before insert or update ON', `new.${id(column.name)} := ${value};`)
    case 1:
      return body('after insert or update ON', set)
    case 2:
      return body(
        'after insert ON',
        `delete from ${on} where ${same('new')};`,
        'row',
        'pg_trigger_depth() < 2 and random() < 0.3',
      )
    case 3: // Makes room for what is coming, as some applications replace rows.
      return table.partitioned
        ? ''
        : body('before insert ON', `delete from ${on} where ${same('new')};`, 'row', 'pg_trigger_depth() < 2')
    case 4:
      return body('after update ON', elsewhere, 'statement', 'pg_trigger_depth() < 3')
    case 5:
      return table.partitioned
        ? ''
        : body(
            'after insert or update ON deferrable initially deferred',
            `${set.slice(0, -1)} and ${id(column.name)}::pg_catalog.text is distinct from (${value})::pg_catalog.text;`,
            'row',
            'pg_trigger_depth() < 2',
          )
    case 6: // Puts a value back that somebody may not set.
      return body(
        'after update ON',
        `update ${on} set ${id(column.name)} = old.${id(column.name)} where ${same('new')};`,
        'row',
        `pg_trigger_depth() < 2`,
      )
    default:
      return body('after delete ON', elsewhere, 'row', 'pg_trigger_depth() < 3')
  }
}

export interface DrawnSchema {
  tables: Table[]
  sql: string
}

/** A business database drawn from a seed. `wide`: with a table of as many columns as PostgreSQL has. */
export function drawSchema(chance: Chance, wide: boolean): DrawnSchema {
  const tables = Array.from({ length: 4 }, (_, at) =>
    drawTable(
      chance,
      at === 0 ? 't' : chance.one([`t${at}`, `T ${at}"`, `$spoor$${at}`, `order ${at}`]),
      wide && at === 0,
    ),
  )
  const made = tables.map((table) => table.sql)
  const child = chance.yes(0.5) ? drawChild(chance, tables) : null
  const all = child ? [...tables, child] : tables
  const triggers = all
    .filter((table) => table.columns.length < 500 && chance.yes(0.6))
    .map((table) => drawTrigger(chance, table, tables))
  // Whether a row was replaced or consumed is told by who is there, which a forced policy hides from Spoor (decision 23).
  const hidden = tables
    .filter((table) => !table.partitioned && chance.yes(0.15) && !table.replaces)
    .map((table) => hide(table))
  return { tables: all, sql: [typeSchema, ...made, child?.sql ?? '', ...triggers, ...hidden].join('\n') }
}

/** A child of a table, tracked as a record type of its own: its rows are also written through the parent. */
function drawChild(chance: Chance, tables: readonly Table[]): Table | null {
  const parent = tables.find((table) => !table.partitioned && table.columns.length < 500)
  if (!parent) return null
  const own: Column = { name: 'only here', type: chance.one(['text', 'numeric', 'jsonb']), generated: false }
  const sql = `create table public."a child" (${id(own.name)} ${own.type}, primary key (${parent.key.map(({ name }) => id(name)).join(', ')})) inherits (public.${id(parent.name)});\n`
  return { ...parent, name: 'a child', sql, columns: [...parent.columns, own], deferrable: 'no', parent: parent.name }
}

/** Row-level security that lets everybody write and, forced, is there for the owner too. */
function hide(table: Table): string {
  table.forced = true
  const on = `public.${id(table.name)}`
  return `alter table ${on} enable row level security; alter table ${on} force row level security;
create policy everybody on ${on} to business_app using (true) with check (true);
create policy own on ${on} to business_owner using (${quoteLiteral('x')} = 'y');`
}
