import type { Keep } from '@spoor/core'
import { exactSettings } from '../database/knex.ts'
import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'

export interface CapturedField {
  fieldId: number
  column: string
  keep: Keep
  plainEquality: boolean
}

/** Everything the triggers of one table depend on. */
export interface CapturedTable {
  typeId: number
  schema: string
  table: string
  keyColumns: readonly string[]
  labelColumns: readonly string[]
  fields: readonly CapturedField[]
}

/** The names of all triggers and functions of one record type begin with this. */
export function triggerPrefix(typeId: number): string {
  return `spoor_t${typeId}_`
}

// Not search_path and the like alone: these settings decide how a value is written as text.
const functionSettings = [
  'set search_path = pg_catalog, pg_temp',
  ...Object.entries(exactSettings).map(([name, value]) => `set ${name} = '${value}'`),
].join('\n  ')

const outboxColumns =
  'captured_at, type_id, plan_version, action, key, key_before, label, delta, context, login, application_name, client_address'

/**
 * The triggers of one table as SQL, the same for the same input. They run once a statement over its transition
 * tables; a row whose tracked values are all as before makes no entry.
 */
export function captureSql(table: CapturedTable, planVersion: number): string {
  const name = `${id(table.schema)}.${id(table.table)}`
  const prefix = triggerPrefix(table.typeId)
  const parts = generator(table, planVersion)
  const events = [
    { event: 'insert', when: 'after', referencing: 'referencing new table as new_rows', body: parts.insertBody() },
    {
      event: 'update',
      when: 'after',
      referencing: 'referencing old table as old_rows new table as new_rows',
      body: parts.updateBody(),
    },
    {
      event: 'delete',
      when: 'after',
      referencing: 'referencing old table as old_rows',
      body: parts.deleteBody('old_rows'),
    },
    { event: 'truncate', when: 'before', referencing: '', body: parts.deleteBody(name) },
  ]
  return events
    .map(
      ({ event, when, referencing, body }) => `
create or replace function spoor_capture.${prefix}${event}() returns trigger language plpgsql security definer
  ${functionSettings}
as $capture$
-- Variables are named by this label, since a column may have any name.
<<capturing>>
declare
  at_time timestamptz := clock_timestamp();
  said text := nullif(current_setting('spoor.context', true), '');
  app text := nullif(current_setting('application_name', true), '');
  address text := host(inet_client_addr());
  written bigint;${parts.usesSalt ? `\n  salt text := (select value from spoor_capture.meta where name = 'salt');` : ''}
begin${body}
  return null;
end $capture$;
drop trigger if exists ${prefix}${event} on ${name};
create trigger ${prefix}${event} ${when} ${event} on ${name} ${referencing}
  for each statement execute function spoor_capture.${prefix}${event}();
alter table ${name} enable always trigger ${prefix}${event};
`,
    )
    .join('')
}

/** Removes what {@link captureSql} installed. */
export function uninstallSql(table: Pick<CapturedTable, 'typeId' | 'schema' | 'table'>): string {
  const prefix = triggerPrefix(table.typeId)
  return ['insert', 'update', 'delete', 'truncate']
    .map(
      (event) =>
        `drop trigger if exists ${prefix}${event} on ${id(table.schema)}.${id(table.table)};\ndrop function if exists spoor_capture.${prefix}${event}();\n`,
    )
    .join('')
}

function generator(table: CapturedTable, planVersion: number) {
  const { fields, keyColumns, labelColumns, typeId } = table
  const key = (row: string) =>
    `json_build_array(${keyColumns.map((column) => `${row}.${id(column)}::text`).join(', ')})::text`
  const label = (row: string) =>
    `coalesce(concat_ws(' · ', ${(labelColumns.length ? labelColumns : keyColumns).map((column) => `${row}.${id(column)}::text`).join(', ')}), '')`
  const kept = (field: CapturedField, row: string) => {
    const text = `${row}.${id(field.column)}::text`
    // What is NULL stays NULL: a fingerprint of nothing would say that there is something.
    return field.keep === 'values' ? text : `encode(sha256(convert_to(capturing.salt || ${text}, 'UTF8')), 'hex')`
  }
  const differs = ({ column, plainEquality }: CapturedField, o = 'o', n = 'n') => {
    const cast = plainEquality ? '' : '::text'
    return `${o}.${id(column)}${cast} is distinct from ${n}.${id(column)}${cast}`
  }
  const pair = (field: CapturedField, before: string, after: string) =>
    `'"${field.fieldId}":' || json_build_array(${before}, ${after})::text`
  const delta = (cases: string[]) => `'{' || concat_ws(',', ${cases.join(',\n      ')}) || '}'`
  const insert = (action: string, keyText: string, keyBefore: string, labelText: string, deltaText: string) => `
  insert into spoor_capture.outbox (${outboxColumns})
  select capturing.at_time, ${typeId}, ${planVersion}, ${quoteLiteral(action)}, ${keyText}, ${keyBefore}, ${labelText},
    ${deltaText},
    capturing.said, session_user, capturing.app, capturing.address`
  const changed = (o: string, n: string) =>
    fields.map((field) => `case when ${differs(field, o, n)} then ${pair(field, kept(field, o), kept(field, n))} end`)
  const anyDiffers = (o: string, n: string) => fields.map((field) => differs(field, o, n)).join(' or ')
  const sameKey = (o: string, n: string) =>
    keyColumns.map((column) => `${o}.${id(column)} = ${n}.${id(column)}`).join(' and ')
  const firstKey = id(keyColumns[0]!)

  return {
    usesSalt: fields.some((field) => field.keep === 'fingerprint'),

    insertBody: () => {
      const cases = fields.map(
        (field) => `case when n.${id(field.column)} is not null then ${pair(field, 'null', kept(field, 'n'))} end`,
      )
      return `${insert('create', key('n'), 'null', label('n'), delta(cases))}
  from new_rows n;`
    },

    deleteBody: (from: string) => {
      const cases = fields.map(
        (field) => `case when o.${id(field.column)} is not null then ${pair(field, kept(field, 'o'), 'null')} end`,
      )
      return `${insert('delete', key('o'), 'null', label('o'), delta(cases))}
  from ${from} o;`
    },

    // FULL JOIN, because an inner join is planned for the first, small statement of a session as a nested loop and
    // kept. A row without a partner had its key changed. That is rare, so it only leaves a mark, and then what was
    // written is taken back and every row is paired by its place, which both transition tables share.
    updateBody: () => `${insert('change', key('n'), 'null', label('n'), delta(changed('o', 'n')))}
  from old_rows o full join new_rows n on ${sameKey('o', 'n')}
  where case when o.${firstKey} is null or n.${firstKey} is null
    then set_config('spoor.key_changed', 'yes', true) is null
    else ${anyDiffers('o', 'n')} end;
  get diagnostics capturing.written = row_count;
  if current_setting('spoor.key_changed', true) = 'yes' then
    perform set_config('spoor.key_changed', '', true);
    delete from spoor_capture.outbox where seq in (
      select seq from spoor_capture.outbox where transaction_id = pg_current_xact_id() order by seq desc limit capturing.written);${byPlace()}
  end if;`,
  }

  function byPlace(): string {
    // Whole rows, so that no column's name can be taken for the place.
    const [o, n] = ['(o.whole)', '(n.whole)']
    return `${insert('change', key(n), `nullif(${key(o)}, ${key(n)})`, label(n), delta(changed(o, n)))}
    from (select row_number() over () as place, r as whole from old_rows r) o
    join (select row_number() over () as place, r as whole from new_rows r) n on n.place = o.place
    where ${anyDiffers(o, n)} or not (${sameKey(o, n)});`
  }
}
