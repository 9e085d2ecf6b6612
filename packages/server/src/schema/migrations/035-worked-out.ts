import type { Knex } from 'knex'

/** A pack may hold what was worked out of its scope. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.pack add column work text;
comment on column spoor.pack.work is 'What is worked out of its scope and put in, as a link has it; null for nothing';
`)
}
