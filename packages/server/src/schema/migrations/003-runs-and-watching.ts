import type { Knex } from 'knex'

/** Runs, hourly counts, and what is needed to notice when a source is not what it was. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table ledger.run (
  id bigint generated always as identity primary key,
  source_id int not null,
  kind text not null check (kind in ('declared', 'transaction', 'burst')),
  run_key text not null,
  declared text,
  first_at timestamptz not null,
  last_at timestamptz not null,
  saves bigint not null
);
create index run_key on ledger.run (source_id, run_key, last_at);
alter table ledger.save add column run_id bigint;
create index save_run on ledger.save (run_id, captured_at, id);

-- Two narrow roll-ups, kept in the transaction that writes what they count.
create table ledger.hour_field (
  hour timestamptz not null,
  type_id int not null,
  field_id int not null,
  changes bigint not null,
  primary key (hour, type_id, field_id)
);
create table ledger.hour_actor (
  hour timestamptz not null,
  type_id int not null,
  actor_id int not null,
  actor_kind text not null,
  channel text not null,
  saves bigint not null,
  changes bigint not null,
  primary key (hour, type_id, actor_id, channel)
);

alter table ledger.collector_state
  -- The highest number and the latest time ever taken: what lies below may have been taken before.
  add column high_seq bigint not null default 0,
  add column last_at timestamptz,
  add column changes bigint not null default 0,
  -- The triggers were those of the plan at this moment, by the source's clock.
  add column attested_at timestamptz;

alter table spoor.source add column epoch text;
-- The triggers as they were installed, and a digest of the SQL that did it.
alter table spoor.plan_version add column installed jsonb, add column fitted text;
alter table spoor.field add column first_seen_at timestamptz not null default clock_timestamp();
alter table spoor.coverage
  add column ended_because text;

create table spoor.alarm (
  id bigint generated always as identity primary key,
  source_id int references spoor.source,
  kind text not null,
  words text not null,
  raised_at timestamptz not null default clock_timestamp(),
  settled_at timestamptz,
  unique nulls not distinct (source_id, kind, words, settled_at)
);
`)
}
