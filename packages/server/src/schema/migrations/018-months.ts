import type { Knex } from 'knex'

/**
 * A month is made beside the ledger and then joined to it, which waits for nobody who reads or writes there. Made within it,
 * a month had waited for whoever was reading one of the two tables, and everybody else for it: for ever, where the reader
 * needed the other table to go on.
 */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create or replace function ledger.ensure_month(month date) returns void
language plpgsql security definer set search_path = pg_catalog, pg_temp as $fn$
declare
  first_day date := date_trunc('month', month);
  suffix text := to_char(first_day, 'YYYY_MM');
  from_text text := to_char(first_day, 'YYYY-MM-DD') || ' 00:00:00+00';
  to_text text := to_char(first_day + interval '1 month', 'YYYY-MM-DD') || ' 00:00:00+00';
  whole text;
  part text;
begin
  if to_regclass('ledger.change_' || suffix) is not null then return; end if;
  perform pg_advisory_xact_lock(hashtext('ledger.ensure_month'));
  foreach whole in array array['save', 'change'] loop
    part := whole || '_' || suffix;
    continue when to_regclass('ledger.' || part) is not null;
    execute format('create table ledger.%I (like ledger.%I including defaults including constraints including storage)', part, whole);
    execute format('alter table ledger.%I attach partition ledger.%I for values from (%L) to (%L)', whole, part, from_text, to_text);
  end loop;
end $fn$;
`)
}
