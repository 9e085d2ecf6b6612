import type { Knex } from 'knex'

/** Long work is a job: one list of what is under way and what became of it. The queue's own tables are in schema work. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.job (
  id int generated always as identity primary key,
  kind text not null,
  -- What it is done to; of one kind only one goes on there.
  subject text not null,
  words text not null,
  input jsonb not null default '{}',
  asked_by int references spoor.person,
  asked_at timestamptz not null default clock_timestamp(),
  began_at timestamptz,
  -- Who of the queue carries it.
  worker text,
  doing text,
  done bigint not null default 0,
  total bigint,
  stop_asked boolean not null default false,
  ended_at timestamptz,
  outcome text check (outcome in ('done', 'stopped', 'failed')),
  result text,
  -- The code of the problem that it ended with.
  problem text,
  output jsonb,
  check ((ended_at is null) = (outcome is null))
);
create unique index job_open on spoor.job (kind, subject) where ended_at is null;

alter table spoor.ledger_check add column job_id int references spoor.job;
alter table spoor.ledger_check drop column seen_at, drop column stop_asked, drop column done;
update spoor.ledger_check set ended_at = clock_timestamp(), trouble = 'The server that checked stopped.' where ended_at is null;
delete from spoor.noticing_trial;
alter table spoor.noticing_trial add column job_id int not null references spoor.job;
alter table spoor.noticing_trial drop column seen_at, drop column done, drop column total, drop column stop_asked, drop column trouble;
alter table spoor.plan_version drop column doing, drop column steps_done, drop column steps, drop column stop_asked;
alter table spoor.plan_version add column job_id int references spoor.job;
`)
}
