import type { Knex } from 'knex'

/** People, sources, the tracking plan, the ledger and corrections. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create schema ledger;
create schema spoor;

create table spoor.person (
  id int generated always as identity primary key,
  login text not null unique check (login = lower(login)),
  name text not null,
  role text not null,
  password_hash text not null,
  actor_id int,
  disabled_at timestamptz,
  created_at timestamptz not null default now()
);
create table spoor.session (
  sid varchar primary key,
  sess json not null,
  expire timestamp(6) not null
);
create index session_expire on spoor.session (expire);

create table spoor.source (
  id int generated always as identity primary key,
  name text not null unique,
  url_sealed bytea not null,
  created_at timestamptz not null default now()
);
create table spoor.source_login (
  source_id int not null references spoor.source,
  login text not null,
  may_declare boolean not null default false,
  -- Spoor's own login there: only it can say that a save carries out a correction.
  own boolean not null default false,
  primary key (source_id, login)
);
create table spoor.record_type (
  id int generated always as identity primary key,
  source_id int not null references spoor.source,
  relation_id bigint not null,
  schema_name text not null,
  table_name text not null,
  name text not null,
  plural text not null,
  area text not null,
  comment text,
  key_columns jsonb not null,
  label_columns jsonb not null,
  obstacle jsonb,
  present boolean not null default true,
  unique (source_id, relation_id)
);
create table spoor.field (
  id int generated always as identity primary key,
  type_id int not null references spoor.record_type,
  attribute_number int not null,
  column_name text not null,
  name text not null,
  data_type text not null,
  base_type text not null,
  comment text,
  part_of_key boolean not null,
  generated boolean not null,
  present boolean not null default true,
  unique (type_id, attribute_number)
);

create table spoor.plan_version (
  source_id int not null references spoor.source,
  version int not null,
  plan jsonb not null,
  state text not null check (state in ('installing', 'in force', 'superseded', 'refused')),
  reason text not null,
  put_by int references spoor.person,
  put_at timestamptz not null default now(),
  primary key (source_id, version)
);
create unique index one_plan_in_force on spoor.plan_version (source_id) where state = 'in force';
create table spoor.plan_draft (
  source_id int primary key references spoor.source,
  revision int not null default 0,
  edits jsonb not null default '[]',
  edited_by int references spoor.person,
  edited_at timestamptz
);
create table spoor.coverage (
  id bigint generated always as identity primary key,
  field_id int not null references spoor.field,
  keep text not null,
  from_at timestamptz not null,
  to_at timestamptz
);
create index coverage_field on spoor.coverage (field_id, from_at);

create table spoor.actor (
  id int generated always as identity primary key,
  kind text not null,
  name text not null,
  unique (kind, name)
);
alter table spoor.person add foreign key (actor_id) references spoor.actor;

create table spoor.record (
  type_id int not null references spoor.record_type,
  record_key text not null,
  label text not null,
  deleted boolean not null,
  latest_save_id bigint not null,
  primary key (type_id, record_key)
);

create table ledger.head (
  sole boolean primary key default true check (sole),
  last_save_id bigint not null
);
insert into ledger.head (last_save_id) values (0);

create table ledger.collector_state (
  source_id int primary key references spoor.source,
  batches bigint not null default 0,
  saves bigint not null default 0,
  behind_ms bigint not null default 0,
  waiting bigint not null default 0,
  trouble text,
  seen_at timestamptz
);

-- Captured rows that could not be understood, whole, with the reason.
create table ledger.set_aside (
  source_id int not null,
  outbox_seq bigint not null,
  set_aside_at timestamptz not null default clock_timestamp(),
  why text not null,
  content text not null
);

create table ledger.save (
  id bigint not null,
  captured_at timestamptz not null,
  source_id int not null,
  type_id int not null,
  record_key text not null,
  key_before text,
  label text not null,
  action text not null check (action in ('create', 'change', 'delete')),
  actor_id int not null,
  actor_kind text not null,
  claimed boolean not null,
  on_behalf_of text,
  channel text not null,
  run text,
  reason text,
  correction_id int,
  db_login text not null,
  application_name text,
  client_address text,
  transaction_id text not null,
  plan_version int not null,
  outbox_seq bigint not null,
  collected_at timestamptz not null default clock_timestamp(),
  primary key (captured_at, id)
) partition by range (captured_at);
create index save_id on ledger.save (id);
create index save_actor on ledger.save (actor_id, captured_at, id);
create index save_record on ledger.save (type_id, record_key, captured_at, id);
create index save_correction on ledger.save (correction_id) where correction_id is not null;
create index save_transaction on ledger.save (source_id, transaction_id, outbox_seq);

create table ledger.change (
  save_id bigint not null,
  captured_at timestamptz not null,
  field_id int not null,
  type_id int not null,
  record_key text not null,
  actor_id int not null,
  actor_kind text not null,
  before text,
  after text,
  primary key (captured_at, save_id, field_id)
) partition by range (captured_at);
create index change_save on ledger.change (save_id);
create index change_actor on ledger.change (actor_id, captured_at, save_id);
create index change_field on ledger.change (field_id, captured_at, save_id);
create index change_record on ledger.change (type_id, record_key, captured_at, save_id);

-- Makes the partitions of one month; the application may call it but owns no ledger table.
create function ledger.ensure_month(month date) returns void
language plpgsql security definer set search_path = pg_catalog, pg_temp as $fn$
declare
  first_day date := date_trunc('month', month);
  suffix text := to_char(first_day, 'YYYY_MM');
  from_text text := to_char(first_day, 'YYYY-MM-DD') || ' 00:00:00+00';
  to_text text := to_char(first_day + interval '1 month', 'YYYY-MM-DD') || ' 00:00:00+00';
begin
  if to_regclass('ledger.change_' || suffix) is not null then return; end if;
  perform pg_advisory_xact_lock(hashtext('ledger.ensure_month'));
  execute format('create table if not exists ledger.%I partition of ledger.save for values from (%L) to (%L)', 'save_' || suffix, from_text, to_text);
  execute format('create table if not exists ledger.%I partition of ledger.change for values from (%L) to (%L)', 'change_' || suffix, from_text, to_text);
end $fn$;

create table spoor.correction (
  id int generated always as identity primary key,
  source_id int not null references spoor.source,
  state text not null check (state in ('draft', 'applied')),
  drafted_by int not null references spoor.person,
  drafted_at timestamptz not null default now(),
  applied_by int references spoor.person,
  applied_at timestamptz,
  reason text,
  trial jsonb
);
create table spoor.correction_item (
  id int generated always as identity primary key,
  correction_id int not null references spoor.correction,
  type_id int not null,
  record_key text not null,
  label text not null,
  field_id int not null,
  save_id bigint not null,
  found text,
  now text,
  target text,
  state text not null,
  why text,
  choice text not null default 'keep',
  written boolean not null default false
);
create index correction_item_of on spoor.correction_item (correction_id);
-- Which changes a correction set back; several picked changes of one value share one item.
create table spoor.correction_change (
  correction_id int not null references spoor.correction,
  save_id bigint not null,
  field_id int not null,
  item_id int not null references spoor.correction_item,
  primary key (save_id, field_id, correction_id)
);
`)
}
