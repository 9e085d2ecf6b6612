import type { Knex } from 'knex'

/** Changes whose values are left out of a pack, by scope. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- Each a scope as a link has it, and why.
alter table spoor.pack add column blacked_scopes jsonb not null default '[]';
`)
}
