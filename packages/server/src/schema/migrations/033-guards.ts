import type { Knex } from 'knex'

/** Guards: their numbers, what they refused, warned of and let by, and for whom they were opened. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- A number is given once: what was refused under it is never told of another guard.
create table spoor.guard (
  id int generated always as identity primary key,
  source_id int not null references spoor.source,
  type_id int not null references spoor.record_type,
  made_by int not null references spoor.person,
  made_at timestamptz not null default clock_timestamp(),
  -- How far the source had counted its refusals when it was looked at last.
  counted bigint not null default 0
);
-- Refusals by the source's own count, between two looks. It may be too high where the source was stopped hard in between.
create table spoor.guard_count (
  guard_id int not null references spoor.guard,
  at timestamptz not null,
  refused bigint not null,
  certain boolean not null,
  primary key (guard_id, at)
);
create table spoor.guard_opening (
  id int generated always as identity primary key,
  guard_id int not null references spoor.guard,
  actor text not null,
  by int not null references spoor.person,
  reason text not null,
  from_at timestamptz not null default clock_timestamp(),
  until_at timestamptz not null,
  closed_at timestamptz,
  closed_by int references spoor.person
);
create index guard_opening_guard on spoor.guard_opening (guard_id, id desc);
-- One save that a guard met: refused as far as somebody told of it, let by because it only warns or was opened.
create table spoor.guard_met (
  id bigint generated always as identity primary key,
  guard_id int not null references spoor.guard,
  how text not null check (how in ('refused', 'warned', 'passed')),
  -- Its number in the source, and when it was there.
  note_id bigint not null,
  at timestamptz not null,
  type_id int not null,
  action text not null,
  record_key text not null,
  label text not null,
  actor text,
  login text not null,
  reason text,
  opening_id int references spoor.guard_opening,
  -- Its transaction's number in the source, of what was let by.
  transaction_id text,
  unique (guard_id, how, note_id, at)
);
create index guard_met_guard on spoor.guard_met (guard_id, id desc);
create index guard_met_record on spoor.guard_met (type_id, record_key);
alter table spoor.source add column guards_since timestamptz;
comment on column spoor.source.guards_since is 'When the source was started, as its guards were looked at last';
`)
}
