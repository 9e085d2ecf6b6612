import type { Knex } from 'knex'

/** Visits, days of effect, what stands out, and what people say to one another about changes. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- Where somebody's visit before this one ended, or where they said that they have looked until.
alter table spoor.person add column looked_until timestamptz;
-- The field whose day says when a record's content takes effect in the business.
alter table spoor.record_type add column effective_field_id int references spoor.field;
create index save_deleted on ledger.save (type_id, record_key, captured_at) where action = 'delete';

create table spoor.note (
  id bigint generated always as identity primary key,
  save_id bigint not null,
  text text not null,
  by int not null references spoor.person,
  at timestamptz not null default clock_timestamp()
);
create index note_save on spoor.note (save_id);

create table spoor.assignment (
  id int generated always as identity primary key,
  assigned_to int not null references spoor.person,
  due_on date,
  note text not null,
  by int not null references spoor.person,
  at timestamptz not null default clock_timestamp(),
  done_by int references spoor.person,
  done_at timestamptz
);
create table spoor.assignment_save (
  assignment_id int not null references spoor.assignment,
  save_id bigint not null,
  primary key (assignment_id, save_id)
);
create index assignment_save_of on spoor.assignment_save (save_id);
create index assignment_open on spoor.assignment (assigned_to) where done_at is null;

create table spoor.question (
  id int generated always as identity primary key,
  actor_id int not null references spoor.actor,
  text text not null,
  by int not null references spoor.person,
  at timestamptz not null default clock_timestamp(),
  answer text,
  -- Who wrote the answer down: the actor, or somebody whom the actor told.
  answered_by int references spoor.person,
  answered_at timestamptz,
  check ((answer is null) = (answered_at is null))
);
create table spoor.question_save (
  question_id int not null references spoor.question,
  save_id bigint not null,
  primary key (question_id, save_id)
);
create index question_save_of on spoor.question_save (save_id);
create index question_open on spoor.question (actor_id) where answered_at is null;

-- What stands out, computed as saves are collected. A story is told once: later saves of it extend the row.
create table spoor.story (
  id int generated always as identity primary key,
  -- The same whenever the same saves are read with the same settings.
  story text not null unique,
  -- Every reason with its figures, the heaviest first; no values of the business.
  reasons jsonb not null,
  saves int not null,
  records int not null,
  from_at timestamptz not null,
  to_at timestamptz not null,
  found_at timestamptz not null default clock_timestamp(),
  actors int[] not null,
  types int[] not null,
  settled_by int references spoor.person,
  settled_at timestamptz,
  settled_why text
);
create index story_time on spoor.story (to_at);
create table spoor.story_save (
  story_id int not null references spoor.story on delete cascade,
  save_id bigint not null,
  primary key (story_id, save_id)
);
create index story_save_of on spoor.story_save (save_id);

-- How far noticing has read the ledger, and with what it goes on.
create table spoor.noticing (
  sole boolean primary key default true check (sole),
  settings jsonb not null default '{}',
  -- What it remembers, and up to which save; kept now and then.
  state jsonb,
  until_save bigint not null default 0,
  -- Up to which save stories are told.
  read_save bigint not null default 0,
  changed_by int references spoor.person,
  changed_at timestamptz
);
-- Changed settings tried on the whole past, before they are kept.
create table spoor.noticing_trial (
  sole boolean primary key default true check (sole),
  settings jsonb not null,
  by int not null references spoor.person,
  at timestamptz not null default clock_timestamp(),
  -- Written while it runs, so that a trial whose server stopped shows as one.
  seen_at timestamptz not null default clock_timestamp(),
  done bigint not null default 0,
  total bigint not null,
  stop_asked boolean not null default false,
  trouble text,
  stories jsonb,
  state jsonb,
  until_save bigint
);
insert into spoor.noticing default values;
`)
}
