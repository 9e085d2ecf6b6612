/** What is installed in a source once, whatever is tracked: the outbox, its context function and its own facts. */
export const baseSql = `
create schema if not exists spoor_capture;
comment on schema spoor_capture is 'Change tracking by Spoor. Generated: do not edit.';
grant usage on schema spoor_capture to public;

create table if not exists spoor_capture.meta (
  name text primary key,
  value text not null
);
insert into spoor_capture.meta (name, value) values
  ('epoch', gen_random_uuid()::text),
  ('salt', encode(sha256(convert_to(gen_random_uuid()::text || gen_random_uuid()::text, 'UTF8')), 'hex'))
on conflict (name) do nothing;

create table if not exists spoor_capture.outbox (
  seq bigint generated always as identity primary key,
  captured_at timestamptz not null,
  transaction_id xid8 not null default pg_current_xact_id(),
  type_id int not null,
  plan_version int not null,
  action text not null,
  key text not null,
  key_before text,
  label text not null,
  delta text not null,
  context text,
  login text not null,
  application_name text,
  client_address text
) with (autovacuum_vacuum_scale_factor = 0.0, autovacuum_vacuum_threshold = 5000, autovacuum_vacuum_cost_delay = 0);
alter table spoor_capture.outbox add column if not exists parent_key text;

-- Whoever lays hands on captured rows leaves a trace here; the collector reads it.
create table if not exists spoor_capture.meddling (
  id bigint generated always as identity primary key,
  at timestamptz not null default clock_timestamp(),
  deed text not null,
  login text not null
);
create or replace function spoor_capture.note_meddling() returns trigger language plpgsql security definer
  set search_path = pg_catalog, pg_temp as $meddling$
begin
  if session_user <> (select pg_get_userbyid(relowner) from pg_class where oid = TG_RELID) then
    insert into spoor_capture.meddling (deed, login) values (lower(TG_OP), session_user);
  end if;
  return null;
end $meddling$;
create or replace trigger note_meddling after update or delete or truncate on spoor_capture.outbox
  for each statement when (pg_trigger_depth() = 0) execute function spoor_capture.note_meddling();
alter table spoor_capture.outbox enable always trigger note_meddling;

create or replace function spoor_capture.context(
  actor text default null, kind text default null, on_behalf_of text default null, channel text default null,
  run text default null, reason text default null, correction int default null
) returns void language sql set search_path = pg_catalog, pg_temp as $context$
  select set_config('spoor.context', json_strip_nulls(json_build_object(
    'actor', actor, 'kind', kind, 'onBehalfOf', on_behalf_of, 'channel', channel,
    'run', run, 'reason', reason, 'correction', correction))::text, true)
$context$;
create or replace function spoor_capture.reason_of(said text) returns text language plpgsql immutable set search_path = pg_catalog, pg_temp as $reason$
begin
  return nullif(btrim(said::json ->> 'reason'), '');
exception when others then
  return null; -- What is not a context gives no reason.
end $reason$;

-- Whether a table's columns still have the names and types they had ("name:type,name:type" by number). Declared
-- immutable so that it is answered once a plan; plans are made anew when the table changes.
create or replace function spoor_capture.shape_is(relation oid, numbers int2[], signature text) returns boolean
language sql immutable set search_path = pg_catalog, pg_temp as $shape$
  select coalesce(string_agg(attname || ':' || atttypid, ',' order by attnum), '') = signature
    from pg_attribute where attrelid = relation and attnum = any (numbers)
$shape$;

-- Fits a marked statement to the columns as they are named now: a renamed one is found by its number, or by its name
-- where the table was made anew; what depends on a dropped one becomes null.
create or replace function spoor_capture.reshape(marked text, relation oid, written oid, originals text)
returns text language plpgsql stable set search_path = pg_catalog, pg_temp as $reshape$
declare
  result text := replace(marked, '«relation»', written::regclass::text);
  one record;
  present text;
begin
  for one in select key::int as number, value as original from json_each_text(originals::json) loop
    select case when not attisdropped then attname end into present from pg_attribute where attrelid = relation and attnum = one.number;
    if not found then
      select attname into present from pg_attribute where attrelid = written and attname = one.original and not attisdropped;
    end if;
    if present is null then
      result := regexp_replace(result, '«if ' || one.number || '».*?«fi ' || one.number || '»', 'null', 'g');
    else
      result := replace(replace(replace(result, '«' || one.number || '»', quote_ident(present)),
        '«if ' || one.number || '»', ''), '«fi ' || one.number || '»', '');
    end if;
  end loop;
  return result;
end $reshape$;

comment on function spoor_capture.context is 'Says who is making the changes of this transaction, by which channel and why.';
`
