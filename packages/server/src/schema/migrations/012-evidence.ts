import type { Knex } from 'knex'

/** What people rely on beside saves is under the seals, too: each row by a fact in the chain of events. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- Rows that a transaction wrote and Spoor has not sealed yet. After the transaction only what others wrote is left.
create table spoor.touched (
  transaction xid8 not null default pg_current_xact_id(),
  relation text not null,
  key text not null,
  before text,
  login text not null default session_user,
  at timestamptz not null default clock_timestamp()
);
create unique index touched_once on spoor.touched (transaction, relation, hashtextextended(key, 0));
-- How many traces of handling captured rows were begun in the source, as known last.
alter table ledger.collector_state add column traces bigint;
-- A fact's kind is the name of its table, its words end with the row's key.
create index event_fact on ledger.event (kind, hashtextextended(substr(words, 67), 0), id desc) where position('.' in kind) > 0;
-- What people did.
create index event_act on ledger.event (id) where position('.' in kind) = 0;
`)
}
