import type { Knex } from 'knex'

/** Who is given seals, so that somebody outside can tell a ledger that was changed before one of them. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.witness (
  id int generated always as identity primary key,
  kind text not null,
  -- Where, as people read it: no login, no query.
  place text not null,
  since timestamptz not null default clock_timestamp(),
  -- Since when it is not set any more.
  ended_at timestamptz,
  -- What became of the tries since it took one last.
  tried_at timestamptz,
  failures int not null default 0,
  trouble text,
  -- Somebody asked for it to be given the latest seal without waiting.
  wanted boolean not null default false,
  unique (kind, place)
);
create table spoor.witnessed (
  id bigint generated always as identity primary key,
  witness_id int not null references spoor.witness,
  seal_number bigint not null,
  at timestamptz not null default clock_timestamp(),
  -- What an authority answered (RFC 3161).
  answer bytea,
  unique (witness_id, seal_number)
);
`)
}
