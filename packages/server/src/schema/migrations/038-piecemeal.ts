import type { Knex } from 'knex'

/** Corrections that were applied record by record, and drafts of what one of them left unwritten. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.correction add column piecemeal boolean not null default false,
  add column rest_of int references spoor.correction;
create index correction_rest on spoor.correction (rest_of) where rest_of is not null;
`)
}
