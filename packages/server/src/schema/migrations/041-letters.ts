import type { Knex } from 'knex'

/** What is sent by mail in one letter stays in that letter, however often it is tried. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- By mail, the letter it was put into when it was first tried: the identity of the first message in it.
alter table spoor.watch_message add column letter uuid;
`)
}
