import type { Knex } from 'knex'

/** What makes the ledger prove itself; the rules are in docs/proof.md, by number. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- The actor's name as it was, and the leaf (rule 7). Saves from before sealing have none.
alter table ledger.save add column actor_name text, add column leaf bytea;
-- The salt of a change (rule 2) and what tells whether just this change was altered (rule 4).
alter table ledger.change add column salt bytea, add column digest bytea;
-- So that events are chained in an order that no transaction ending late can disturb.
alter table ledger.event add column transaction xid8 not null default pg_current_xact_id();
create index event_chain on ledger.event (transaction, id);

-- The save with which sealing begins is leaf 0.
create table ledger.sealing (
  sole boolean primary key default true check (sole),
  first_save_id bigint not null
);
insert into ledger.sealing (first_save_id) select last_save_id + 1 from ledger.head;
-- Roots of perfect subtrees of 256, 65,536 ... leaves; what lies between follows from them.
create table ledger.node (
  height int not null,
  place bigint not null,
  hash bytea not null,
  primary key (height, place)
);
create table ledger.seal (
  number bigint primary key,
  sealed_at timestamptz not null,
  size bigint not null unique,
  root bytea not null,
  -- How far the chain of events goes (rule 9).
  events bigint not null,
  events_transaction text not null,
  events_id bigint not null,
  events_end bytea not null,
  -- The signed note, whole.
  note text not null
);
-- Keys that seals were signed with. All but the first are vouched for by the key before.
create table ledger.signing_key (
  number int primary key,
  since timestamptz not null,
  line text not null unique,
  -- The hand-over, signed by both; null for the first.
  note text
);

-- How checking goes on, and what it found.
create table spoor.ledger_check (
  id int generated always as identity primary key,
  began_at timestamptz not null default clock_timestamp(),
  -- Written while it runs; one that says nothing for long lost its server.
  seen_at timestamptz not null default clock_timestamp(),
  ended_at timestamptz,
  asked_by int references spoor.person,
  stop_asked boolean not null default false,
  done bigint not null default 0,
  total bigint not null,
  found int not null default 0,
  trouble text
);
create table spoor.mismatch (
  id int generated always as identity primary key,
  found_at timestamptz not null default clock_timestamp(),
  check_id int references spoor.ledger_check,
  -- What it is about, the same in each check that finds it.
  place text not null,
  words text not null,
  save_id bigint,
  field_id int,
  stored text,
  expected text,
  after_seal bigint,
  before_seal bigint,
  settled_by int references spoor.person,
  settled_at timestamptz,
  settled_why text
);
create unique index mismatch_open on spoor.mismatch (place) where settled_at is null;
`)
}
