import type { Knex } from 'knex'

/** While a correction is being applied, what its outcome can be found out by. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.correction drop constraint correction_state_check;
alter table spoor.correction add constraint correction_state_check check (state in ('draft', 'applying', 'applied'));
-- Who applies it and why, the transaction of the source that does, and what it is going to have written.
alter table spoor.correction add column attempt jsonb;
create index correction_applying on spoor.correction (id) where state = 'applying';
`)
}
