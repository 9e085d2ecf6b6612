import type { Knex } from 'knex'

/** What the directory knows of actors, beyond the name they were captured under. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.actor
  add column login text,
  add column unit text,
  add column joined_on date,
  add column left_on date;
`)
}
