import { createHash } from 'node:crypto'
import type { Knex } from 'knex'
import { quoteLiteral } from '../database/identifier.ts'
import { plainQuery } from '../database/plain.ts'

const definitions = `
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
-- Whose rights wrote it: those of the capture's owner, or it was not captured. A trigger would cost every save more.
alter table spoor_capture.outbox add column if not exists written_by name not null default current_user;
-- How many triggers deep it was captured.
alter table spoor_capture.outbox add column if not exists depth int not null default pg_catalog.pg_trigger_depth();
-- What the label is made of, where part of it is what another record is called.
alter table spoor_capture.outbox add column if not exists label_of text;

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
-- Capture writes as the owner, from within triggers; the collector as the owner's own session, which the function passes.
do $owner$
begin
  execute format('create or replace trigger note_meddling after update or delete or truncate on spoor_capture.outbox
    for each statement when (current_user <> %L or pg_catalog.pg_trigger_depth() = 0) execute function spoor_capture.note_meddling()',
    (select pg_get_userbyid(relowner) from pg_catalog.pg_class where oid = 'spoor_capture.outbox'::pg_catalog.regclass));
end $owner$;
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

-- The columns of a row x as they are named now, each called by its number: a renamed one is found by its number, or
-- by its name where the table was made anew; a dropped one is null.
create or replace function spoor_capture.columns_now(relation oid, written oid, originals text)
returns text language plpgsql stable set search_path = pg_catalog, pg_temp as $columns$
declare
  result text[] := '{}';
  one record;
  present text;
begin
  for one in select key::int as number, value as original from json_each_text(originals::json) order by 1 loop
    select case when not attisdropped then attname end into present from pg_attribute where attrelid = relation and attnum = one.number;
    if not found then
      select attname into present from pg_attribute where attrelid = written and attname = one.original and not attisdropped;
    end if;
    result := result || (case when present is null then 'null::pg_catalog.text' else 'x.' || quote_ident(present) end
      || ' as c' || one.number);
  end loop;
  return array_to_string(result, ', ');
end $columns$;

-- A value of whatever type as its text: as its output function writes it, but a boolean as true or false.
create or replace function spoor_capture.as_text(value anyelement) returns text
language plpgsql stable set search_path = pg_catalog, pg_temp as $text$
begin
  if value is not distinct from null then
    return null;
  elsif exists (select from pg_type where oid = pg_typeof(value)::oid and typcategory = 'B') then
    return case format('%s', value) when 't' then 'true' else 'false' end;
  end if;
  return format('%s', value);
end $text$;

-- Whether rows of a table are among those of another: a partition, or a child at any depth.
create or replace function spoor_capture.belongs(relation oid, root oid) returns boolean
language sql stable set search_path = pg_catalog, pg_temp as $belongs$
  with recursive up (id) as (
    select relation union select i.inhparent from up join pg_inherits i on i.inhrelid = up.id)
  select exists (select from up where id = root)
$belongs$;

-- Patterns without backslashes, which mean something else where a session has standard_conforming_strings off.
-- A statement that goes on leaves a mark, "|table:i:depth:number", which it takes away when it is told of. What was
-- captured under a higher number in between came about meanwhile.
create or replace function spoor_capture.begin_statement() returns trigger language plpgsql security definer as $begin$
declare
  v_marked pg_catalog.text;
begin
  v_marked := pg_catalog.set_config('spoor.open', pg_catalog.concat(pg_catalog.current_setting('spoor.open', true), '|', TG_RELID, ':',
    pg_catalog.left(TG_OP, 1), ':', pg_catalog.pg_trigger_depth(), ':', pg_catalog.nextval('spoor_capture.outbox_seq_seq')), true);
  return null;
end $begin$;
create or replace function spoor_capture.begun(relation oid, operation text) returns bigint
language plpgsql set search_path = pg_catalog, pg_temp as $begun$
declare
  open text := coalesce(current_setting('spoor.open', true), '');
  mark text := concat('[|]', relation, ':', left(operation, 1), ':', pg_trigger_depth(), ':');
begin
  perform set_config('spoor.open', regexp_replace(open, '^(.*)' || mark || '[0-9]+', E'\\\\1'), true);
  return substring(open from '^.*' || mark || '([0-9]{1,18})');
end $begun$;
-- Whether a statement on a table above this one goes on at this depth: it will tell of this one's rows.
create or replace function spoor_capture.told_above(relation oid) returns boolean
language sql stable set search_path = pg_catalog, pg_temp as $above$
  select exists (
    select from pg_partition_ancestors(relation) as above
     where above.relid <> relation
       and current_setting('spoor.open', true) ~ concat('[|]', above.relid::oid, ':[IUD]:', pg_trigger_depth(), ':'))
$above$;

-- What a statement did stands before what was done because of it: that was captured first and is moved behind. Only
-- rows that were removed to make room for those it brought stay where they are. Whether that was so is told by who is
-- there now: "present" asks for the key in $1. "first" is NULL where rows were captured one by one.
create or replace function spoor_capture.put_in_order(of_type int, event text, begun bigint, first bigint, present text)
returns void language plpgsql set search_path = pg_catalog, pg_temp set row_security = off as $order$
declare
  own_depth int := pg_trigger_depth();
  stays bigint[] := '{}';
  goes bigint[] := '{}';
  one record;
  there boolean;
begin
  if not exists (select from spoor_capture.outbox o where o.seq > begun and (o.seq < first or first is null and o.depth > own_depth)
                  and o.transaction_id = pg_current_xact_id()) then
    return;
  end if;
  if event in ('insert', 'delete') then
    for one in
      select own.key, own.times,
             count(*) filter (where o.key_before = own.key or o.action = 'delete' and o.key = own.key) as removed,
             count(*) filter (where o.key = own.key and (o.action = 'create' or o.key_before is not null)) as came,
             min(o.seq) filter (where o.key_before = own.key or o.action = 'delete' and o.key = own.key) as first_removed,
             min(o.seq) filter (where o.key = own.key and (o.action = 'create' or o.key_before is not null)) as first_came
        from (select key, count(*) as times from spoor_capture.outbox
               where (seq > first or first is null and seq > begun and depth = own_depth)
                 and transaction_id = pg_current_xact_id() and type_id = of_type and action = case event when 'insert' then 'create' else 'delete' end group by key) own
        join spoor_capture.outbox o on o.seq > begun and (o.seq < first or first is null and o.depth > own_depth)
         and o.transaction_id = pg_current_xact_id()
         and o.type_id = of_type and (o.key = own.key or o.key_before = own.key)
       group by own.key, own.times
    loop
      continue when event = 'insert' and one.removed = 0 or event = 'delete' and one.came = 0;
      begin
        execute present into there using one.key;
      exception when others then
        continue; -- Who is there cannot be seen; the usual order stands.
      end;
      if event = 'insert' and there::int - one.times - one.came + one.removed = 1 then
        stays := stays || array(select o.seq from spoor_capture.outbox o where o.seq > begun and o.seq <= one.first_removed
          and o.transaction_id = pg_current_xact_id() and o.type_id = of_type and (o.key = one.key or o.key_before = one.key));
      elsif event = 'delete' and there::int + one.times + one.removed - one.came = 1 then
        goes := goes || array(select o.seq from spoor_capture.outbox o where o.seq >= one.first_came and (o.seq < first or first is null)
          and o.transaction_id = pg_current_xact_id() and o.type_id = of_type and (o.key = one.key or o.key_before = one.key));
      end if;
    end loop;
  end if;
  with moved as (
    delete from spoor_capture.outbox o
     where o.seq > begun and (o.seq < first or first is null and o.depth > own_depth) and o.transaction_id = pg_current_xact_id()
       and (o.depth > own_depth or o.seq = any (goes)
            or event = 'update' and o.depth = own_depth and o.type_id = of_type and o.action = 'change')
       and o.seq <> all (stays)
    returning *)
  insert into spoor_capture.outbox (captured_at, type_id, plan_version, action, key, key_before, parent_key, label, label_of, delta,
      context, login, application_name, client_address, depth)
  select captured_at, type_id, plan_version, action, key, key_before, parent_key, label, label_of, delta,
      context, login, application_name, client_address, depth
    from moved order by seq;
end $order$;

-- The end of a statement whose rows were captured one by one.
create or replace function spoor_capture.end_statement() returns trigger language plpgsql security definer
  set search_path = pg_catalog, pg_temp as $end$
declare
  begun bigint := spoor_capture.begun(TG_RELID, TG_OP);
begin
  if begun is not null then
    perform spoor_capture.put_in_order(TG_ARGV[0]::int, lower(TG_OP), begun, null, TG_ARGV[1]);
  end if;
  return null;
end $end$;

-- TRUNCATE tells of the rows that it removes, so they have to be seen, whatever policies hide.
create or replace function spoor_capture.demand_sight(relation oid) returns void
language plpgsql set search_path = pg_catalog, pg_temp as $sight$
begin
  if row_security_active(relation) then
    raise exception 'TRUNCATE of % was refused: its row-level security is forced and hides from Spoor what would be removed. Nothing was removed.', relation::regclass
      using errcode = 'SPR02', hint = 'Delete the rows instead, or have a superuser give the login of Spoor the attribute BYPASSRLS.';
  end if;
end $sight$;

-- What went by where the plan lets a save through although it could not be captured.
create table if not exists spoor_capture.missed (
  id bigint generated always as identity primary key,
  at timestamptz not null default clock_timestamp(),
  type_id int not null,
  relation text not null,
  deed text not null,
  state text not null,
  words text not null,
  login text not null
);
create or replace function spoor_capture.note_missed(of_type int, relation oid, deed text, state text, words text) returns void
language plpgsql set search_path = pg_catalog, pg_temp as $missed$
begin
  insert into spoor_capture.missed (type_id, relation, deed, state, words, login)
  values (of_type, relation::regclass::text, lower(deed), state, left(words, 500), session_user);
exception when others then
  raise log 'Spoor could not capture a % of % (%: %), nor note it: %', deed, relation::regclass, state, left(words, 500), SQLERRM;
end $missed$;

-- What was said of a transaction; nothing where that is no context.
create or replace function spoor_capture.said(context text, name text) returns text language plpgsql immutable set search_path = pg_catalog, pg_temp as $said$
begin
  return nullif(context::json ->> name, '');
exception when others then
  return null;
end $said$;

-- For whom a guard stands open, and until when.
create table if not exists spoor_capture.guard_open (
  opening int primary key,
  guard int not null,
  -- By what is said of them, and by which logins where nothing is.
  said text[] not null,
  logins text[] not null,
  until timestamptz not null
);
-- What went by a guard: because it only warns, or because it was opened.
create table if not exists spoor_capture.guarded (
  id bigint generated always as identity primary key,
  at timestamptz not null default clock_timestamp(),
  transaction_id xid8 not null default pg_current_xact_id(),
  guard int not null,
  opening int,
  type_id int not null,
  action text not null,
  key text not null,
  label text not null,
  context text,
  login text not null default session_user
);
-- What was refused, as far as whoever was refused tells of it: of the save itself nothing is left.
create table if not exists spoor_capture.refused (
  id bigint generated always as identity primary key,
  at timestamptz not null default clock_timestamp(),
  detail text not null,
  context text,
  login text not null default session_user
);
create or replace function spoor_capture.meet_guard(of_guard int, mode text, words text, of_type int, action text, key text, label text, field int, believed boolean)
returns void language plpgsql set search_path = pg_catalog, pg_temp as $meet$
declare
  context text := current_setting('spoor.context', true);
  who text := case when believed then spoor_capture.said(context, 'actor') end;
  open_now int;
begin
  -- A proof of the recording tries every field and takes it back; only Spoor's own login can say that it does.
  if session_user = current_user and current_setting('spoor.proving', true) = 'yes' then
    return;
  end if;
  if mode = 'refuse' then
    select o.opening into open_now from spoor_capture.guard_open o
     where o.guard = of_guard and clock_timestamp() < o.until
       and (who = any (o.said) or who is null and session_user::text = any (o.logins))
     order by o.opening limit 1;
  end if;
  if mode = 'warn' or open_now is not null then
    insert into spoor_capture.guarded (guard, opening, type_id, action, key, label, context) values (of_guard, open_now, of_type, action, key, label, context);
    return;
  end if;
  if session_user <> current_user then
    perform nextval(format('spoor_capture.guard_%s_refused', of_guard)::regclass);
  end if;
  raise exception '%', words using errcode = 'SPR03',
    detail = json_build_object('guard', of_guard, 'type', of_type, 'action', action, 'key', key, 'label', label, 'field', field)::text,
    hint = 'Nothing was saved. Whoever looks after change tracking can say why this is refused, and can open the guard for a while.';
end $meet$;
-- Called by the application after it was refused and has rolled back.
create or replace function spoor_capture.tell_refused(detail text, said text) returns void language plpgsql security definer set search_path = pg_catalog, pg_temp as $tell$
begin
  if (detail::json ->> 'guard')::int is not null and (select count(*) from (select from spoor_capture.refused limit 10000) r) < 10000 then
    insert into spoor_capture.refused (detail, context) values (left(detail, 4000), left(said, 4000));
  end if;
end $tell$;

-- Nobody but the capture's own functions calls these.
revoke all on function spoor_capture.shape_is(oid, int2[], text), spoor_capture.columns_now(oid, oid, text), spoor_capture.as_text(anyelement),
  spoor_capture.belongs(oid, oid), spoor_capture.begin_statement(), spoor_capture.end_statement(), spoor_capture.begun(oid, text), spoor_capture.told_above(oid),
  spoor_capture.put_in_order(int, text, bigint, bigint, text), spoor_capture.demand_sight(oid),
  spoor_capture.note_missed(int, oid, text, text, text), spoor_capture.note_meddling(), spoor_capture.said(text, text),
  spoor_capture.meet_guard(int, text, text, int, text, text, text, int, boolean) from public;
drop function if exists spoor_capture.reshape(text, oid, oid, text);

comment on function spoor_capture.context is 'Says who is making the changes of this transaction, by which channel and why.';
`

const digest = createHash('sha256').update(definitions).digest('hex')

/** What is installed in a source once, whatever is tracked: the outbox, its context function and its own facts. */
export const baseSql = `${definitions}
insert into spoor_capture.meta (name, value) values ('base', ${quoteLiteral(digest)})
on conflict (name) do update set value = excluded.value;
`

/** Makes it where it is not there as it has to be. Making it anew would lock the outbox while the business writes. */
export async function ensureBase(trx: Knex.Transaction): Promise<void> {
  const [there] = await plainQuery<{ there: boolean }>(
    trx,
    `select to_regclass('spoor_capture.meta') is not null as there`,
  )
  if (there!.there) {
    const rows = await plainQuery<{ value: string }>(trx, `select value from spoor_capture.meta where name = 'base'`)
    if (rows[0]?.value === digest) return
  }
  await plainQuery(trx, baseSql)
}
