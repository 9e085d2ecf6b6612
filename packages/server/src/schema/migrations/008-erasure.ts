import type { Knex } from 'knex'

/** Values erased by law, without a gap in what proves the rest; the rules are in docs/proof.md. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- Nothing read it, and for its sake a record was written anew with every save of it.
alter table spoor.record drop column latest_save_id;

create table spoor.erasure (
  id int generated always as identity primary key,
  save_id bigint not null,
  type_id int not null references spoor.record_type,
  record_key text not null,
  label text not null,
  field_id int not null references spoor.field,
  reach text not null check (reach in ('change', 'record')),
  reason text not null,
  asked_by int not null references spoor.person,
  asked_at timestamptz not null default clock_timestamp(),
  state text not null default 'waiting' check (state in ('waiting', 'erased', 'refused', 'withdrawn')),
  decided_by int references spoor.person,
  decided_at timestamptz,
  answer text
);
create index erasure_waiting on spoor.erasure (id) where state = 'waiting';
create index erasure_record on spoor.erasure (type_id, record_key);

-- Value and salt are gone where this is true. Only the role for erasing may write it.
alter table ledger.change add column erased boolean not null default false;
-- The commitments (rule 3) to what was erased, so that its save still has its leaf; none of a change from before sealing.
create table ledger.erased (
  save_id bigint not null,
  field_id int not null,
  erasure_id int not null,
  before text,
  after text,
  primary key (save_id, field_id)
);
create index erased_of on ledger.erased (erasure_id);
-- What people do in Spoor is sealed also while nothing is saved.
alter table ledger.seal drop constraint seal_size_key;
alter table spoor.correction_item add column erased boolean not null default false;
`)
}
