import type { Knex } from 'knex'

/** What a correction was asked to set back, what of it was left out, and which save changed a value since. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.correction add column asked text, add column left_out int not null default 0;
alter table spoor.correction_item add column since_save bigint;
`)
}
