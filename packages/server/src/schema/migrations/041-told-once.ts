import type { Knex } from 'knex'

/** What is sent by mail in one letter stays in that letter, however often it is tried; what guards met is found by its time. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- By mail, the letter it was put into when it was first tried: the identity of the first message in it.
alter table spoor.watch_message add column letter uuid;
-- What guards met since a watch looks for it. There was a time when the migration of watches made it.
create index if not exists guard_met_at on spoor.guard_met (at);
`)
}
