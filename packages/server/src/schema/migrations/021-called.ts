import type { Knex } from 'knex'

/**
 * What records are called that were never captured nor found, and that others refer to: read from their source when they
 * were first met, and again now and then.
 */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
    create table spoor.called (
      type_id int not null references spoor.record_type,
      record_key text not null,
      label text not null,
      read_at timestamptz not null default now(),
      primary key (type_id, record_key)
    )`)
}
