import type { Knex } from 'knex'
import { plainQuery } from '../database/plain.ts'
import { contentOf, covered, isGroup, keyOf } from './content.ts'
import type { CoveredGroup, CoveredRows } from './covered.ts'

const touch = 'insert into spoor.touched (relation, key, before)'

function functionName(table: string): string {
  return `spoor."touch ${table}"()`
}

function rowTrigger(one: CoveredRows): string {
  const { table, columns, decides = [] } = one
  const function_ = functionName(table)
  const groups = decides.map(
    (group) => `\n  ${touch} values ('${group}', ${keyOf(one, 'new')}, null) on conflict do nothing;`,
  )
  return `
create or replace function ${function_} returns trigger language plpgsql set search_path = pg_catalog, pg_temp as $touch$
begin
  if TG_OP = 'UPDATE' and ${contentOf('old', [...Object.keys(one.key), ...columns])} = ${contentOf('new', [...Object.keys(one.key), ...columns])} then
    return null;
  end if;
  if TG_OP <> 'INSERT' then
    ${touch} values ('${table}', ${keyOf(one, 'old')}, ${contentOf('old', columns)}::text) on conflict do nothing;
  end if;
  if TG_OP <> 'DELETE' then
    ${touch} values ('${table}', ${keyOf(one, 'new')}, null) on conflict do nothing;${groups.join('')}
  end if;
  return null;
end $touch$;
create or replace trigger touch after insert or update or delete on ${table} for each row execute function ${function_};`
}

function groupTriggers(one: CoveredGroup): string {
  const function_ = functionName(one.table)
  const note = (rows: string) =>
    `\n    ${touch} select distinct '${one.table}', ${keyOf(one, 't')}, null from ${rows} t on conflict do nothing;`
  const trigger = (name: string, event: string, tables: string) =>
    `\ncreate or replace trigger ${name} after ${event} on ${one.table} referencing ${tables} for each statement execute function ${function_};`
  return `
create or replace function ${function_} returns trigger language plpgsql set search_path = pg_catalog, pg_temp as $touch$
begin
  if TG_OP <> 'INSERT' then${note('old_rows')}
  end if;
  if TG_OP <> 'DELETE' then${note('new_rows')}
  end if;
  return null;
end $touch$;${trigger('touch_new', 'insert', 'new table as new_rows')}${trigger('touch_change', 'update', 'old table as old_rows new table as new_rows')}${trigger('touch_gone', 'delete', 'old table as old_rows')}`
}

/**
 * Notes which covered rows a transaction wrote and what they were before. Spoor takes the notes away when it seals the
 * rows, in the same transaction; what stays was written by somebody else.
 */
const touchSql = covered.map((one) => (isGroup(one) ? groupTriggers(one) : rowTrigger(one))).join('\n')

/** Makes them as they have to be. For the owner of the schema. */
export async function ensureTouchTriggers(db: Knex): Promise<void> {
  await db.transaction((trx) => plainQuery(trx, touchSql))
}
