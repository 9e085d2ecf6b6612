import type { Keep, ReasonRule } from '@spoor/core'
import { exactSettings } from '../database/knex.ts'
import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'

export interface CapturedColumn {
  /** `pg_attribute.attnum`, by which a column is known through a rename. */
  attributeNumber: number
  name: string
  /** `pg_attribute.atttypid`. */
  typeId: number
  /** Catalogue name with domains resolved. */
  baseType: string
}

export interface CapturedField extends CapturedColumn {
  fieldId: number
  keep: Keep
  plainEquality: boolean
  /** Whether a save that changes it must give a reason, the type's own rule apart. */
  needsReason: boolean
}

export interface TableName {
  schema: string
  table: string
}

/** Everything the triggers of one record type depend on. */
export interface CapturedTable extends TableName {
  typeId: number
  relationId: number
  keyColumns: readonly CapturedColumn[]
  labelColumns: readonly CapturedColumn[]
  /** Those that hold the parent's key, of a line; empty otherwise. */
  parentColumns: readonly CapturedColumn[]
  fields: readonly CapturedField[]
  reason: ReasonRule
  /** Partitions and inheriting tables, in which rows can be written directly. */
  descendants: readonly TableName[]
}

export const captureEvents = ['insert', 'update', 'delete', 'truncate'] as const
export type CaptureEvent = (typeof captureEvents)[number]

/** The names of all triggers and functions of one record type begin with this. */
export function triggerPrefix(typeId: number): string {
  return `spoor_t${typeId}_`
}

export function qualified({ schema, table }: TableName): string {
  return `${id(schema)}.${id(table)}`
}

/** Which settings decide how values of a type are written as text. */
const settingsOf: Readonly<Record<string, readonly (keyof typeof exactSettings)[]>> = {
  date: ['datestyle'],
  timestamp: ['datestyle'],
  timestamptz: ['datestyle', 'timezone'],
  interval: ['intervalstyle'],
  bytea: ['bytea_output'],
  float4: ['extra_float_digits'],
  float8: ['extra_float_digits'],
  money: ['lc_monetary'],
}
/** Types that hold no other type and whose text depends on no setting. */
const settled = new Set([
  'int2',
  'int4',
  'int8',
  'numeric',
  'bool',
  'text',
  'varchar',
  'bpchar',
  'name',
  'citext',
  'uuid',
  'inet',
  'cidr',
  'json',
  'jsonb',
  'oid',
])

/** Types whose text never holds what JSON must escape, so that putting it in quotes is enough, and quicker. */
const unescaped = new Set([
  'int2',
  'int4',
  'int8',
  'oid',
  'numeric',
  'bool',
  'uuid',
  'date',
  'timestamp',
  'timestamptz',
  'float4',
  'float8',
])

/**
 * The settings under which a table's values have one text form: those that its columns need, since each costs every
 * statement a little. A type that is not known here (an array, a composite) may hold any other and gets them all.
 * Compiling so many small expressions anew for each statement costs more than it saves: no jit.
 */
function functionSettings(columns: readonly CapturedColumn[]): string {
  const needed = new Set(
    columns.flatMap(
      ({ baseType }) =>
        settingsOf[baseType] ??
        (settled.has(baseType) ? [] : (Object.keys(exactSettings) as (keyof typeof exactSettings)[])),
    ),
  )
  return [
    'set search_path = pg_catalog, pg_temp',
    'set jit = off',
    ...[...needed].map((name) => `set ${name} = '${exactSettings[name]}'`),
  ].join('\n  ')
}

const outboxColumns =
  'captured_at, type_id, plan_version, action, key, key_before, parent_key, label, delta, context, login, application_name, client_address'

const timing: Readonly<Record<CaptureEvent, { when: string; referencing: string }>> = {
  insert: { when: 'after', referencing: 'referencing new table as new_rows' },
  update: { when: 'after', referencing: 'referencing old table as old_rows new table as new_rows' },
  delete: { when: 'after', referencing: 'referencing old table as old_rows' },
  truncate: { when: 'before', referencing: '' },
}

/**
 * The triggers of one record type as SQL, the same for the same input. They run once a statement over its transition
 * tables; a row whose tracked values are all as before makes no entry. When a tracked column was renamed, dropped
 * or retyped since, they write themselves anew for the statement, so that the business never fails for it.
 */
export function captureSql(table: CapturedTable, planVersion: number): string {
  const functions = captureEvents.map((event) => functionSql(table, planVersion, event))
  const triggers = [table as TableName, ...table.descendants].flatMap((on) =>
    captureEvents.map((event) => triggerSql(table.typeId, event, on)),
  )
  return [...functions, ...triggers].join('')
}

function triggerSql(typeId: number, event: CaptureEvent, on: TableName): string {
  const name = `${triggerPrefix(typeId)}${event}`
  const { when, referencing } = timing[event]
  return `
drop trigger if exists ${name} on ${qualified(on)};
create trigger ${name} ${when} ${event} on ${qualified(on)} ${referencing}
  for each statement execute function spoor_capture.${name}();
alter table ${qualified(on)} enable always trigger ${name};
`
}

/** Removes what {@link captureSql} installed. */
export function uninstallSql({
  typeId,
  descendants,
  ...table
}: Pick<CapturedTable, 'typeId' | 'schema' | 'table' | 'descendants'>): string {
  return captureEvents
    .map((event) => {
      const name = `${triggerPrefix(typeId)}${event}`
      const drops = [table, ...descendants].map((on) => `drop trigger if exists ${name} on ${qualified(on)};\n`)
      return `${drops.join('')}drop function if exists spoor_capture.${name}();\n`
    })
    .join('')
}

function functionSql(table: CapturedTable, planVersion: number, event: CaptureEvent): string {
  const fixed = new Writer(table, planVersion, plainNames)
  const shifting = new Writer(table, planVersion, markedNames)
  const columns = allColumns(table)
  const signature = columns.map((column) => `${column.name}:${column.typeId}`).join(',')
  const numbers = columns.map((column) => column.attributeNumber).join(',')
  const shapeHolds = `spoor_capture.shape_is(${table.relationId}, ${quoteLiteral(`{${numbers}}`)}, ${quoteLiteral(signature)})`
  // The answer is worked out when the condition is planned. Naming the transition table, though nothing is read from
  // it, makes the plan depend on the table: any change of its shape has it planned, and so answered, anew.
  const rows = { insert: 'new_rows', update: 'new_rows', delete: 'old_rows', truncate: null }[event]
  const shapeChanged =
    rows === null ? `not ${shapeHolds}` : `exists (select from ${rows} where false) or not ${shapeHolds}`
  const originals = JSON.stringify(Object.fromEntries(columns.map((column) => [column.attributeNumber, column.name])))
  return `
create or replace function spoor_capture.${triggerPrefix(table.typeId)}${event}() returns trigger language plpgsql security definer
  ${functionSettings(columns)}
as $capture$
-- Variables are named by this label, since a column may have any name.
<<capturing>>
declare
  at_time timestamptz := clock_timestamp();
  said text := nullif(current_setting('spoor.context', true), '');
  app text := nullif(current_setting('application_name', true), '');
  address text := host(inet_client_addr());
  salt text${fixed.usesSalt ? ` := (select value from spoor_capture.meta where name = 'salt')` : ''};
  written bigint;
begin
  if ${shapeChanged} then
    execute spoor_capture.reshape(${quoteLiteral(shifting.statement(event))}, ${table.relationId}, TG_RELID, ${quoteLiteral(originals)})
      using capturing.at_time, capturing.said, capturing.app, capturing.address, capturing.salt;
    get diagnostics capturing.written = row_count;
  else${fixed.body(event)}
  end if;${demandReason(table)}
  return null;
end $capture$;
`
}

/** Refuses a statement that changed what needs a reason when none was given. */
function demandReason({ reason, fields }: CapturedTable): string {
  const needing = fields.filter((field) => field.needsReason).map(({ fieldId }) => `delta::json -> '${fieldId}' is not null`) // prettier-ignore
  if (reason !== 'required' && needing.length === 0) return ''
  const changed =
    reason === 'required'
      ? ''
      : ` and exists (
      select from (select delta from spoor_capture.outbox where transaction_id = pg_current_xact_id() order by seq desc limit capturing.written) r
       where ${needing.join(' or ')})`
  return `
  if capturing.written > 0 and spoor_capture.reason_of(capturing.said) is null${changed} then
    raise exception 'This change needs a reason, and none was given. Nothing was saved.'
      using errcode = 'SPR01', hint = 'Give a reason and save again.';
  end if;`
}

/** Every column that the triggers name, once, by its number. */
function allColumns({ keyColumns, labelColumns, parentColumns, fields }: CapturedTable): CapturedColumn[] {
  const byNumber = new Map(
    [...keyColumns, ...labelColumns, ...parentColumns, ...fields].map((column) => [column.attributeNumber, column]),
  )
  return [...byNumber.values()].sort((a, b) => a.attributeNumber - b.attributeNumber)
}

/** How a generated statement names its columns and variables. */
interface Names {
  column(column: CapturedColumn): string
  /** An expression over some columns that makes no sense without any of them. */
  whole(expression: string, column: CapturedColumn): string
  variable: Readonly<Record<'at' | 'said' | 'app' | 'address' | 'salt', string>>
  /** Whether texts are compared whatever the type: it may be another by now. */
  asText: boolean
}

const plainNames: Names = {
  column: (column) => id(column.name),
  whole: (expression) => expression,
  variable: {
    at: 'capturing.at_time',
    said: 'capturing.said',
    app: 'capturing.app',
    address: 'capturing.address',
    salt: 'capturing.salt',
  },
  asText: false,
}

/** Marks that `spoor_capture.reshape` puts the present names in the place of. */
const markedNames: Names = {
  column: (column) => `«${column.attributeNumber}»`,
  whole: (expression, { attributeNumber }) => `«if ${attributeNumber}»${expression}«fi ${attributeNumber}»`,
  variable: { at: '$1', said: '$2', app: '$3', address: '$4', salt: '$5' },
  asText: true,
}

class Writer {
  readonly #table: CapturedTable
  readonly #planVersion: number
  readonly #names: Names
  constructor(table: CapturedTable, planVersion: number, names: Names) {
    this.#table = table
    this.#planVersion = planVersion
    this.#names = names
  }

  get usesSalt(): boolean {
    return this.#table.fields.some((field) => field.keep === 'fingerprint')
  }

  /** The statements of one event, at home in the function's own text. */
  body(event: CaptureEvent): string {
    const counted = '\n    get diagnostics capturing.written = row_count;'
    if (event === 'truncate')
      return `
    execute format(${quoteLiteral(this.#deletion('%1$I.%2$I', true))}, TG_TABLE_SCHEMA, TG_TABLE_NAME)
      using ${Object.values(plainNames.variable).join(', ')};${counted}`
    if (event !== 'update') return `${this.statement(event)};${counted}`
    // FULL JOIN, because an inner join is planned for the first, small statement of a session as a nested loop and
    // kept. A row without a partner had its key changed. That is rare, so it only leaves a mark, and then what was
    // written is taken back and every row is paired by its place, which both transition tables share.
    return `${this.#insert('change', 'n', 'null', this.#delta(this.#changes('o', 'n')))}
    from old_rows o full join new_rows n on ${this.#sameKey('o', 'n')}
    where case when ${this.#missing('o')} or ${this.#missing('n')}
      then set_config('spoor.key_changed', 'yes', true) is null
      else ${this.#anyDiffers('o', 'n')} end;${counted}
    if current_setting('spoor.key_changed', true) = 'yes' then
      perform set_config('spoor.key_changed', '', true);
      delete from spoor_capture.outbox where seq in (
        select seq from spoor_capture.outbox where transaction_id = pg_current_xact_id() order by seq desc limit capturing.written);${this.#byPlace()};${counted}
    end if;`
  }

  /** One statement that captures an event, whatever happened to keys. */
  statement(event: CaptureEvent): string {
    switch (event) {
      case 'insert':
        return `${this.#insert('create', 'n', 'null', this.#delta(this.#created()))}
    from new_rows n`
      case 'update':
        return this.#byPlace()
      case 'delete':
        return this.#deletion('old_rows', false)
      case 'truncate':
        return this.#deletion('«relation»', false)
    }
  }

  #byPlace(): string {
    // Whole rows, so that no column's name can be taken for the place.
    const [o, n] = ['(o.whole)', '(n.whole)']
    return `${this.#insert('change', n, `nullif(${this.#key(o)}, ${this.#key(n)})`, this.#delta(this.#changes(o, n)))}
    from (select row_number() over () as place, r as whole from old_rows r) o
    join (select row_number() over () as place, r as whole from new_rows r) n on n.place = o.place
    where ${this.#anyDiffers(o, n)} or ${this.#key(o)} <> ${this.#key(n)}`
  }

  /** `formatted`: to be passed through `format` and run dynamically, for a table known only when it happens. */
  #deletion(from: string, formatted: boolean): string {
    const writer = formatted
      ? new Writer(this.#table, this.#planVersion, { ...plainNames, variable: markedNames.variable })
      : this
    const select = writer.#insert('delete', 'o', 'null', writer.#delta(writer.#deleted()))
    // ONLY: when a parent is truncated, its children's own triggers speak for their rows.
    const only = from === 'old_rows' ? '' : 'only '
    return formatted ? `${select.replaceAll('%', '%%')} from ${only}${from} o` : `${select}\n    from ${only}${from} o`
  }

  /** `row` is the one that names the record: the row as it is afterwards, or was at the last. */
  #insert(action: string, row: string, keyBefore: string, delta: string): string {
    const { at, said, app, address } = this.#names.variable
    return `
    insert into spoor_capture.outbox (${outboxColumns})
    select ${at}, ${this.#table.typeId}, ${this.#planVersion}, ${quoteLiteral(action)}, ${this.#key(row)}, ${keyBefore}, ${this.#parent(row)}, ${this.#label(row)},
      ${delta},
      ${said}, session_user, ${app}, ${address}`
  }

  /** A JSON array of texts of these columns. */
  #list<C extends CapturedColumn>(columns: readonly C[], texts: (column: C) => string[]): string {
    if (this.#names.asText || columns.some((column) => !unescaped.has(column.baseType)))
      return `json_build_array(${columns.flatMap(texts).join(', ')})::text`
    const quoted = columns
      .flatMap(texts)
      .map((text) => (text === 'null' ? `'null'` : `coalesce('"' || ${text} || '"', 'null')`))
    return `'[' || ${quoted.join(` || ',' || `)} || ']'`
  }

  #column(row: string, column: CapturedColumn): string {
    return `${row}.${this.#names.column(column)}`
  }

  #text(row: string, column: CapturedColumn): string {
    return this.#names.whole(`${this.#column(row, column)}::text`, column)
  }

  #key(row: string): string {
    return this.#list(this.#table.keyColumns, (column) => [this.#text(row, column)])
  }

  #parent(row: string): string {
    const { parentColumns } = this.#table
    return parentColumns.length === 0 ? 'null' : this.#list(parentColumns, (column) => [this.#text(row, column)])
  }

  #label(row: string): string {
    const { labelColumns, keyColumns } = this.#table
    const named = labelColumns.length > 0 ? labelColumns : keyColumns
    return `coalesce(concat_ws(' · ', ${named.map((column) => this.#text(row, column)).join(', ')}), '')`
  }

  #kept(field: CapturedField, row: string): string {
    const text = `${this.#column(row, field)}::text`
    // What is NULL stays NULL: a fingerprint of nothing would say that there is something.
    return field.keep === 'values'
      ? text
      : `encode(sha256(convert_to(${this.#names.variable.salt} || ${text}, 'UTF8')), 'hex')`
  }

  #differs(field: CapturedField, o: string, n: string): string {
    const cast = field.plainEquality && !this.#names.asText ? '' : '::text'
    return this.#names.whole(
      `${this.#column(o, field)}${cast} is distinct from ${this.#column(n, field)}${cast}`,
      field,
    )
  }

  #anyDiffers(o: string, n: string): string {
    return `(${this.#table.fields.map((field) => this.#differs(field, o, n)).join(' or ')})`
  }

  #sameKey(o: string, n: string): string {
    return this.#table.keyColumns
      .map((column) => `${this.#column(o, column)} = ${this.#column(n, column)}`)
      .join(' and ')
  }

  #missing(row: string): string {
    return `${this.#column(row, this.#table.keyColumns[0]!)} is null`
  }

  #pair(field: CapturedField, before: string, after: string): string {
    return `'"${field.fieldId}":' || ${this.#list([field], () => [before, after])}`
  }

  #case(field: CapturedField, condition: string, before: string, after: string): string {
    return this.#names.whole(`case when ${condition} then ${this.#pair(field, before, after)} end`, field)
  }

  #changes(o: string, n: string): string[] {
    return this.#table.fields.map((field) => {
      const cast = field.plainEquality && !this.#names.asText ? '' : '::text'
      const condition = `${this.#column(o, field)}${cast} is distinct from ${this.#column(n, field)}${cast}`
      return this.#case(field, condition, this.#kept(field, o), this.#kept(field, n))
    })
  }

  // IS NOT NULL would ask every field of a composite value; this asks the value.
  #created(): string[] {
    return this.#table.fields.map((field) =>
      this.#case(field, `${this.#column('n', field)} is distinct from null`, 'null', this.#kept(field, 'n')),
    )
  }

  #deleted(): string[] {
    return this.#table.fields.map((field) =>
      this.#case(field, `${this.#column('o', field)} is distinct from null`, this.#kept(field, 'o'), 'null'),
    )
  }

  #delta(cases: readonly string[]): string {
    return `'{' || concat_ws(',', ${cases.join(',\n        ')}) || '}'`
  }
}
