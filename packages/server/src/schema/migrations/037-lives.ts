import type { Knex } from 'knex'

/** What fields held over all of time, kept record by record for whatever is worked out of them. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.life (
  field_id int not null references spoor.field,
  -- The key that the record has, or had last; one may have been that of several.
  record_key text not null,
  record_id text not null,
  -- The keys that it had, where that was more than this.
  spans json,
  spells text not null
);
create index life_record on spoor.life (field_id, record_key);
comment on table spoor.life is 'What fields held, one record a row, as it is packed for reading at once. Follows from the ledger and can be made anew';
create table spoor.life_read (
  field_id int primary key references spoor.field,
  -- How far the ledger is read, by which coverage, and how far each taking.
  read_save bigint not null,
  coverage text not null,
  places jsonb not null
);
`)
}
