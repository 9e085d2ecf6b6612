import type { Knex } from 'knex'

/** Openings of a guard know under which names and logins the source knew whom they were for. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.guard_opening add column if not exists said text[], add column if not exists logins text[];
update spoor.guard_opening set said = coalesce(said, array[actor]), logins = coalesce(logins, '{}');
alter table spoor.guard_opening alter column said set not null, alter column logins set not null;
`)
}
