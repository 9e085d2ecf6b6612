import type { Knex } from 'knex'

/** What the watch over a source found stands beside how far it is collected: they are two duties, maybe of two servers. */
export async function up(db: Knex): Promise<void> {
  await db.raw('alter table ledger.collector_state add column watch_words text')
}
