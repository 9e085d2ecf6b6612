import { quoteLiteral } from '../database/identifier.ts'
import { allColumns, type CapturedTable } from './table.ts'
import { op, settingsFor } from './value-text.ts'

export function oid({ relationId }: CapturedTable): string {
  return `'${relationId}'::pg_catalog.oid`
}

/** A quotation that nothing in the text can end. */
function dollarQuoted(text: string): string {
  let tag = '$spoor$'
  for (let at = 1; text.includes(tag); at++) tag = `$spoor${at}$`
  return `${tag}${text}${tag}`
}

export const variables = {
  at: 'spoor.v_at',
  salt: 'spoor.v_salt',
  list: 'spoor.v_list',
  delta: 'spoor.v_delta',
  key: 'spoor.v_key',
  keyBefore: 'spoor.v_key_before',
  written: 'spoor.v_written',
  begun: 'spoor.v_begun',
  first: 'spoor.v_first',
  jit: 'spoor.v_jit',
} as const

/** The variables that hold the context of many rows. */
export const contextOnce = ['spoor.v_said', 'spoor.v_login', 'spoor.v_app', 'spoor.v_address']

/** What a trigger function is made of, before it is put around with declarations. */
interface Body {
  name: string
  before: string
  /** Where the work is done; what fails in it is a failure of capturing. */
  work: string
  /** What comes after it and may refuse the save for reasons of the plan. */
  after: string
  records: readonly string[]
}

export function functionSql(table: CapturedTable, { name, before, work, after, records }: Body): string {
  const columns = allColumns(table)
  const salted = table.fields.some((field) => field.keep === 'fingerprint')
  // No search path is set, which would cost a small statement a good part of its time: every name is given in full.
  const settings = settingsFor(columns)
  const body = `
#variable_conflict use_column
-- Variables are named by this label, since a column may have any name.
<<spoor>>
declare
  v_at pg_catalog.timestamptz := pg_catalog.clock_timestamp();
  v_salt pg_catalog.text${salted ? ` := (select m.value from spoor_capture.meta m where m.name ${op.equals} 'salt')` : ''};
  v_list pg_catalog.text;
  v_delta pg_catalog.text := '';
  v_key pg_catalog.text;
  v_key_before pg_catalog.text;
  v_written pg_catalog.int8 := 0;
  v_begun pg_catalog.int8;
  v_first pg_catalog.int8;
  v_jit pg_catalog.text;
  v_said pg_catalog.text;
  v_login pg_catalog.name;
  v_app pg_catalog.text;
  v_address pg_catalog.text;${table.guards.length > 0 ? '\n  v_told pg_catalog.json;\n  met record;' : ''}
${records.map((record) => `  ${record} record;\n`).join('')}begin${before}${guard(table, work)}${after}
  return null;
end `
  return `
create or replace function spoor_capture.${name}() returns trigger language plpgsql security definer${settings.map((setting) => `\n  ${setting}`).join('')}
as ${dollarQuoted(body)};
revoke all on function spoor_capture.${name}() from public;
`
}

/** Where a failure of capturing may not refuse the save, it is noted: beside the outbox or, failing that, in the log. */
function guard({ typeId, onFailure }: CapturedTable, work: string): string {
  if (onFailure === 'refuse') return work
  return `
  begin${work}
  exception when others then
    perform spoor_capture.note_missed(${typeId}, TG_RELID, TG_OP, SQLSTATE, SQLERRM);
    spoor.v_written := 0;
  end;`
}

/** Whether the table's columns are not those that the function was written for. */
export function shapeChanged(table: CapturedTable): string {
  const columns = allColumns(table)
  const signature = columns.map((column) => `${column.name}:${column.typeId}`).join(',')
  const numbers = columns.map((column) => column.attributeNumber).join(',')
  const holds = `spoor_capture.shape_is(${oid(table)}, ${quoteLiteral(`{${numbers}}`)}, ${quoteLiteral(signature)})`
  // The answer is worked out when the condition is planned, which is once a session. Naming the table makes the plan
  // depend on it: any change of its shape has it planned, and so answered, anew.
  return `((TG_RELID ${op.equals} '${table.relationId}'::pg_catalog.regclass) is null) ${op.equals} ${holds}`
}

/** A detached partition, or a child that was taken out of its family, is not of the record type any more. */
export function leaveStrangers(table: CapturedTable): string {
  if (table.descendants.length === 0 && !table.partitioned) return ''
  const root = oid(table)
  return `
  if TG_RELID ${op.differs} ${root} and not spoor_capture.belongs(TG_RELID, ${root}) then
    return null;
  end if;`
}

export function originalsOf(table: CapturedTable): string {
  return quoteLiteral(
    JSON.stringify(Object.fromEntries(allColumns(table).map((column) => [column.attributeNumber, column.name]))),
  )
}

/** What stands in generated text where the present names of the columns go; nobody's name is looked at for it. */
export const columnsHere = '\0columns'

/** An expression for the text of a statement that fits the columns as they are named when it runs. */
export function fitted(statement: string): string {
  return `pg_catalog.array_to_string(array[${statement.split(columnsHere).map(quoteLiteral).join(', ')}], ${variables.list})`
}
