import type { Knex } from 'knex'

/** A record is found under the key it has now by following the saves that changed its key. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create index save_key_before on ledger.save (type_id, key_before, id) where key_before is not null;
`)
}
