import type { Knex } from 'knex'

/** The zone in which somebody wants times told; null: that of their browser. */
export async function up(db: Knex): Promise<void> {
  await db.raw('alter table spoor.person add column zone text')
}
