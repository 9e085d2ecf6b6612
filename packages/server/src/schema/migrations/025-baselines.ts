import type { Knex } from 'knex'

/** Named moments of named sets of records, and who signed them off. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.baseline (
  id int generated always as identity primary key,
  name text not null,
  type_id int not null references spoor.record_type,
  at timestamptz not null,
  field_ids int[] not null,
  -- Which records were meant, in words.
  meant text not null,
  -- Whether they were all of the type.
  whole boolean not null,
  made_by int not null references spoor.person,
  made_at timestamptz not null default clock_timestamp(),
  why text not null,
  job_id int references spoor.job,
  -- going while it is put together, then kept.
  state text not null default 'going',
  records bigint not null default 0,
  -- Of what its records held then, each a line, in the order of their keys.
  digest text
);
create unique index baseline_name on spoor.baseline (lower(name));
create table spoor.baseline_record (
  baseline_id int not null references spoor.baseline on delete cascade,
  record_key text not null,
  label text not null,
  -- Of what it held then.
  digest text not null,
  primary key (baseline_id, record_key)
);
create table spoor.baseline_signature (
  id int generated always as identity primary key,
  baseline_id int not null references spoor.baseline,
  person_id int not null references spoor.person,
  -- What the person says by it.
  meaning text not null,
  note text,
  signed_at timestamptz not null default clock_timestamp(),
  unique (baseline_id, person_id, meaning)
);
`)
}
