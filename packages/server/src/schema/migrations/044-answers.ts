import type { Knex } from 'knex'

/** What takes longer than somebody waits is answered as a job, and the answer kept for a short time. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.answer (
  -- The question by a name of its own.
  subject text primary key,
  answer jsonb not null,
  made_at timestamptz not null default clock_timestamp()
);
comment on table spoor.answer is 'Answers that took long, for whoever waits for them. Each follows from the ledger and is gone after some minutes';
`)
}
