import type { Knex } from 'knex'

/** What the fields that scopes ask for held when, read out of the ledger so that a condition on it is one look. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.held (
  field_id int not null references spoor.field,
  record_key text not null,
  -- The saves for which the record has the key, the first included, the last not.
  since_save bigint not null,
  until_save bigint,
  -- The spell: a save of the same instant belongs to it from that number on.
  from_at timestamptz not null,
  from_save bigint not null,
  to_at timestamptz not null,
  to_save bigint not null,
  known boolean not null,
  value text,
  -- Whether the record is there by now and what it holds is known, and that.
  stands boolean not null,
  latest text
);
create index held_record on spoor.held (field_id, record_key, from_at, from_save);
comment on table spoor.held is 'What fields that scopes ask for held, record by record and spell by spell. Follows from the ledger and can be made anew';
create table spoor.held_read (
  field_id int primary key references spoor.field,
  -- How far the ledger is read, by which coverage, and how far each taking.
  read_save bigint not null,
  coverage text not null,
  places jsonb not null
);
`)
}
