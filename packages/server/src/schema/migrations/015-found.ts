import type { Knex } from 'knex'

/** What was there when tracking began, taken in once: evidence, and no change. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- One look at all records of a type.
create table spoor.taking (
  id int generated always as identity primary key,
  job_id int references spoor.job,
  source_id int not null references spoor.source,
  type_id int not null references spoor.record_type,
  plan_version int not null,
  -- In the order in which a record's values stand.
  field_ids int[] not null,
  began_at timestamptz not null default clock_timestamp(),
  -- How far it is: the key of the last record that was read in the order of keys.
  last_key text,
  records bigint not null default 0,
  -- going, whole, or stopped with a part.
  state text not null default 'going',
  ended_at timestamptz,
  root text
);
create unique index taking_job on spoor.taking (job_id);
-- Which look was asked for as the spell began; null where none was yet.
alter table spoor.coverage add column taking_id int references spoor.taking;
create table ledger.found (
  taking_id int not null,
  place bigint not null,
  type_id int not null,
  record_key text not null,
  label text not null,
  parent_key text,
  at timestamptz not null,
  -- Changes that it shows are in the record's values, others came after, whatever the clock said.
  snapshot text not null,
  -- A JSON array in the order of the taking's fields.
  vals text not null,
  salt bytea,
  -- Of a record of which something was erased: each field's own salt, or the commitment to what is gone.
  kept jsonb,
  leaf bytea not null,
  primary key (taking_id, place)
);
create index found_record on ledger.found (type_id, record_key);
create table ledger.erased_found (
  taking_id int not null,
  place bigint not null,
  field_id int not null,
  erasure_id int not null,
  value text not null,
  primary key (taking_id, place, field_id)
);
`)
}
