import type { Knex } from 'knex'

/** Evidence that was taken out: what was asked for, what it holds, and who took it. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.pack (
  id int generated always as identity primary key,
  title text not null,
  why text not null,
  -- Which changes are meant, as a link has it, and how they are to be read.
  scope text not null,
  zone text not null,
  columns text[] not null,
  shown text[] not null,
  -- Fields that are blacked out, each with its reason.
  blacked jsonb not null default '{}',
  made_by int not null references spoor.person,
  asked_at timestamptz not null default clock_timestamp(),
  job_id int references spoor.job,
  -- going while it is made, then kept, then perhaps withdrawn.
  state text not null default 'going',
  made_at timestamptz,
  cover jsonb,
  size bigint,
  -- SHA-256 of the file, in hexadecimal digits.
  digest text,
  -- The saves in it, to be found where values of them are erased.
  save_ids bigint[],
  withdrawn_by int references spoor.person,
  withdrawn_at timestamptz,
  withdrawn_why text,
  -- Whether the file of a withdrawn one was removed.
  file_removed boolean not null default false
);
create index pack_to_remove on spoor.pack (id) where state = 'withdrawn' and not file_removed;
create index pack_saves on spoor.pack using gin (save_ids) where state = 'kept';
create table spoor.pack_taking (
  id bigint generated always as identity primary key,
  pack_id int not null references spoor.pack,
  person_id int not null references spoor.person,
  taken_at timestamptz not null default clock_timestamp()
);
create index pack_taking_of on spoor.pack_taking (pack_id);
`)
}
