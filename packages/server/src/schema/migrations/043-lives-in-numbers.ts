import type { Knex } from 'knex'

/** What is kept of lives is packed in another way: a record in one text, its times as numbers. It follows from the ledger, and is read again when somebody asks. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
truncate spoor.life, spoor.life_read;
alter table spoor.life drop column record_id, drop column spans;
alter table spoor.life rename column spells to life;
comment on column spoor.life.life is 'Its key, the keys that it had where that was more than this, and its spells in a row';
`)
}
