import type { Knex } from 'knex'

/** What stands in a pack beside its changes. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- Tables beside the changes, each as it was asked for: how records stood, two moments of one, what moved since a baseline, what no save explains.
alter table spoor.pack add column beside jsonb not null default '[]';
`)
}
