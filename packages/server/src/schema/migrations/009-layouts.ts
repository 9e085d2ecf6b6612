import type { Knex } from 'knex'

/** How a person has the columns of a list; those of a list they never touched are not here. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.layout (
  person_id int not null references spoor.person,
  list text not null,
  -- In order: each with its number of pixels where somebody chose one, and those that are left out.
  columns jsonb not null,
  primary key (person_id, list)
);
`)
}
