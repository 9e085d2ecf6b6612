import type { Knex } from 'knex'

/** Every tracked record as it stands, kept by a follower of the ledger. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.standing (
  type_id int not null references spoor.record_type,
  record_key text not null,
  label text not null,
  -- When it came to have its key, was made, was deleted.
  since timestamptz,
  born timestamptz,
  deleted timestamptz,
  last_save bigint not null,
  -- By field: [value, when, by which save or taking:place, hidden, cut]; null stands for what is left off at the end.
  vals jsonb not null,
  primary key (type_id, record_key)
);
-- As people put names in order: 9 Weir Cottages before 10.
create collation spoor.natural (provider = icu, locale = 'und-u-kn-true');
-- Without the key, which may be as long as an entry of an index can be by itself.
create index standing_label on spoor.standing (type_id, (left(label, 200) collate spoor.natural)) where deleted is null;
-- How far saves are read.
create table spoor.standing_read (
  sole boolean primary key default true check (sole),
  read_save bigint not null
);
insert into spoor.standing_read (read_save) values (0);
-- And how many of the records of each taking.
create table spoor.standing_taking (
  taking_id int primary key references spoor.taking,
  records bigint not null
);
`)
}
