import type { Knex } from 'knex'

/** Watches: who is told when of what comes, what has fired, and what was sent. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- Programs that are told: where they are, and the secret that signs what they are sent.
create table spoor.receiver (
  id int generated always as identity primary key,
  name text not null,
  url_sealed bytea not null,
  -- Where, as people read it: no login, no query.
  place text not null,
  secret_sealed bytea not null,
  -- The secret before it, which goes on signing beside it for a while.
  older_sealed bytea,
  older_until timestamptz,
  -- Whether it may be within the own network.
  inside boolean not null,
  made_by int not null references spoor.person,
  made_at timestamptz not null default clock_timestamp(),
  ended_at timestamptz
);
create unique index receiver_name on spoor.receiver (lower(name)) where ended_at is null;
create table spoor.watch (
  id int generated always as identity primary key,
  -- Which saves are meant, as a link has it.
  scope text not null,
  fires jsonb not null,
  speaks jsonb not null,
  quiet jsonb,
  zone text not null,
  -- Who is told in Spoor, at which addresses by mail, and which programs.
  people int[] not null,
  mail text[] not null,
  receivers int[] not null,
  owner_id int not null references spoor.person,
  made_at timestamptz not null default clock_timestamp(),
  state text not null default 'on',
  state_why text,
  removed_at timestamptz,
  -- Saves up to this number were looked at.
  until_save bigint not null,
  -- Why it cannot be looked after as it is.
  trouble text
);
create index watch_owner on spoor.watch (owner_id) where removed_at is null;
-- Saves in scope that belong together; fired once there are enough of them.
create table spoor.watch_firing (
  id bigint generated always as identity primary key,
  watch_id int not null references spoor.watch,
  bucket text not null,
  saves int not null,
  from_at timestamptz not null,
  to_at timestamptz not null,
  -- The first of them, by number.
  save_ids bigint[] not null,
  fired_at timestamptz,
  unique (watch_id, bucket)
);
create index watch_firing_fired on spoor.watch_firing (watch_id, fired_at desc) where fired_at is not null;
create table spoor.watch_message (
  id bigint generated always as identity primary key,
  firing_id bigint not null references spoor.watch_firing,
  watch_id int not null references spoor.watch,
  way text not null,
  person_id int references spoor.person,
  address text,
  receiver_id int references spoor.receiver,
  check (num_nonnulls(person_id, address, receiver_id) = 1),
  -- The same for every try.
  identity uuid not null default gen_random_uuid(),
  -- waiting, then sent or given up.
  state text not null default 'waiting',
  due_at timestamptz not null,
  tried_at timestamptz,
  tries int not null default 0,
  trouble text,
  sent_at timestamptz,
  read_at timestamptz,
  unique nulls not distinct (firing_id, way, person_id, address, receiver_id)
);
create index watch_message_due on spoor.watch_message (due_at) where state = 'waiting';
create index watch_message_unread on spoor.watch_message (person_id) where way = 'spoor' and read_at is null;
`)
}
