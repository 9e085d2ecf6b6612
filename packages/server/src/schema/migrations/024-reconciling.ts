import type { Knex } from 'knex'

/** What records hold against what the trail says of them: when that was looked at, and what differs. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.reconciling (
  sole boolean primary key default true check (sole),
  every_hours int check (every_hours between 1 and 8760),
  next_at timestamptz
);
insert into spoor.reconciling (every_hours, next_at) values (24, now() + interval '1 hour');
-- One look at all records of a type.
create table spoor.reconciled (
  id int generated always as identity primary key,
  type_id int not null references spoor.record_type,
  job_id int references spoor.job,
  began_at timestamptz not null,
  ended_at timestamptz not null,
  records bigint not null,
  differing bigint not null,
  -- Records that went on changing, so that nothing could be said.
  moving bigint not null
);
create index reconciled_type on spoor.reconciled (type_id, id);
create table spoor.difference (
  id int generated always as identity primary key,
  type_id int not null references spoor.record_type,
  record_key text not null,
  label text not null,
  -- Null of a whole record.
  field_id int references spoor.field,
  -- value, gone: the source has it no more, unheard: the trail has nothing of it.
  kind text not null,
  trail text,
  source text,
  cut boolean not null default false,
  -- It must have happened after this and by that.
  after_at timestamptz,
  seen_at timestamptz not null,
  -- When a later look found it to differ no more.
  over_at timestamptz,
  settled_by int references spoor.person,
  settled_at timestamptz,
  settled_why text,
  -- The look that takes the value in as found.
  taking_job int references spoor.job
);
create unique index difference_open on spoor.difference (type_id, record_key, field_id) nulls not distinct
  where settled_at is null and over_at is null;
create index difference_of on spoor.difference (type_id, record_key);
`)
}
