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
  -- Whether what people said of its saves is in it.
  said boolean not null,
  -- Whether an authority stamps it with the time.
  stamped boolean not null,
  -- Fields that are blacked out, each with its reason.
  blacked jsonb not null default '{}',
  made_by int not null references spoor.person,
  asked_at timestamptz not null default clock_timestamp(),
  job_id int references spoor.job,
  -- going while it is made, then kept or failed, and what was kept perhaps withdrawn.
  state text not null default 'going',
  made_at timestamptz,
  cover jsonb,
  size bigint,
  -- SHA-256 of the file, in hexadecimal digits.
  digest text,
  -- The saves in it, to be found where values of them are erased.
  save_ids bigint[],
  failed_why text,
  withdrawn_by int references spoor.person,
  withdrawn_at timestamptz,
  withdrawn_why text,
  -- Whether the file of a withdrawn one was removed.
  file_removed boolean not null default false
);
create index pack_to_remove on spoor.pack (id) where state = 'withdrawn' and not file_removed;
create index pack_saves on spoor.pack using gin (save_ids) where state = 'kept';
-- By whom somebody without a sign-in may take a pack, so often and until then.
create table spoor.pack_link (
  id int generated always as identity primary key,
  pack_id int not null references spoor.pack,
  -- SHA-256 of what is in its address, which is told once.
  token_hash text not null unique,
  for_whom text not null,
  made_by int not null references spoor.person,
  made_at timestamptz not null default clock_timestamp(),
  ends_at timestamptz not null,
  most int not null,
  taken int not null default 0,
  check (taken <= most)
);
create index pack_link_of on spoor.pack_link (pack_id);
create table spoor.pack_taking (
  id bigint generated always as identity primary key,
  pack_id int not null references spoor.pack,
  person_id int references spoor.person,
  link_id int references spoor.pack_link,
  check (num_nonnulls(person_id, link_id) = 1),
  taken_at timestamptz not null default clock_timestamp()
);
create index pack_taking_of on spoor.pack_taking (pack_id);
`)
}
