import type { Knex } from 'knex'

/** Lines and references, drafts for two, proofs, activity, who is who, reach of people, and what is done in Spoor itself. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.source add column looked_at timestamptz;
alter table spoor.record_type
  add column parent_type_id int references spoor.record_type,
  -- The columns that hold the parent's key, in the order of its key.
  add column parent_columns jsonb,
  add column foreign_keys jsonb not null default '[]',
  -- What a person said of it is not proposed anew.
  add column described jsonb not null default '[]';
alter table spoor.field
  add column refers_to int references spoor.record_type,
  add column described jsonb not null default '[]';

alter table ledger.save add column parent_type_id int, add column parent_key text;
alter table ledger.change add column parent_type_id int, add column parent_key text;
create index save_parent on ledger.save (parent_type_id, parent_key, captured_at, id) where parent_key is not null;
create index change_parent on ledger.change (parent_type_id, parent_key, captured_at, save_id) where parent_key is not null;

alter table spoor.plan_draft
  add column proposed_by int references spoor.person,
  add column proposed_at timestamptz,
  add column proposed_reason text,
  add column sent_back_by int references spoor.person,
  add column sent_back_at timestamptz,
  add column sent_back_why text;
alter table spoor.plan_version
  add column approved_by int references spoor.person,
  add column doing text,
  add column steps_done int not null default 0,
  add column steps int not null default 0,
  add column stop_asked boolean not null default false;

-- The source's own counters of rows written, as they were read.
create table spoor.activity (
  type_id int not null references spoor.record_type,
  at timestamptz not null,
  created bigint not null,
  changed bigint not null,
  deleted bigint not null,
  primary key (type_id, at)
);
-- Hashes of untracked values of some rows: when one is another at the next look, its field changed unseen.
create table spoor.unseen_sample (
  type_id int not null references spoor.record_type,
  record_key text not null,
  hashes jsonb not null,
  primary key (type_id, record_key)
);
alter table spoor.field add column unseen_at timestamptz;

create table spoor.proof (
  id int generated always as identity primary key,
  source_id int not null references spoor.source,
  plan_version int not null,
  at timestamptz not null default now(),
  by int not null references spoor.person
);
create table spoor.proof_field (
  proof_id int not null references spoor.proof,
  type_id int not null,
  field_id int not null,
  outcome text not null check (outcome in ('recorded', 'missed', 'untried')),
  words text not null,
  primary key (proof_id, field_id)
);
create index proof_field_of on spoor.proof_field (field_id, proof_id);

alter table spoor.actor
  add column in_directory boolean not null default false,
  -- What the directory knows somebody by through a change of name.
  add column directory_id text unique,
  -- The actor this one turned out to be; saves keep the one they were made by.
  add column same_as int references spoor.actor;
update spoor.actor set in_directory = unit is not null or joined_on is not null;
create table spoor.former_name (
  kind text not null,
  name text not null,
  actor_id int not null references spoor.actor,
  until_at timestamptz not null default now(),
  primary key (kind, name)
);
create table spoor.identity (
  id int generated always as identity primary key,
  source_id int not null references spoor.source,
  by text not null check (by in ('login', 'name')),
  said text not null,
  actor_id int not null references spoor.actor,
  for_actor_id int references spoor.actor,
  from_on date,
  until_on date,
  check (from_on is null or until_on is null or from_on <= until_on)
);
create index identity_said on spoor.identity (source_id, by, said);

alter table spoor.person
  add column reach text,
  add column reach_from date,
  add column reach_until date,
  add column last_seen_at timestamptz;
create table spoor.setting (
  name text primary key,
  value jsonb not null
);

create table ledger.event (
  id bigint generated always as identity primary key,
  at timestamptz not null default clock_timestamp(),
  kind text not null,
  outcome text not null check (outcome in ('done', 'refused')),
  person_id int,
  source_id int,
  words text not null,
  address text
);
create index event_kind on ledger.event (kind, id);
`)
}
