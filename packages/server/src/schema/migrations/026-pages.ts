import type { Knex } from 'knex'

/** Where a record's own page in the business application is. */
export async function up(db: Knex): Promise<void> {
  await db.raw('alter table spoor.record_type add column page_pattern text')
}
