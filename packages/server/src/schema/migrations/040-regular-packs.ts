import type { Knex } from 'knex'

/** Packs that are made regularly, and packs that are sent by mail. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.regular_pack (
  id int generated always as identity primary key,
  -- What each of them is, as it is asked for; its scope says no time.
  wish jsonb not null,
  rhythm jsonb not null,
  -- To which addresses each of them is sent.
  mail text[] not null,
  owner_id int not null references spoor.person,
  made_at timestamptz not null default clock_timestamp(),
  -- Turns up to then were looked at.
  until_at timestamptz not null default clock_timestamp(),
  ended_at timestamptz,
  ended_by int references spoor.person,
  -- Why it cannot be made as it is.
  trouble text
);
alter table spoor.pack
  add column regular_id int references spoor.regular_pack,
  -- The first day that it is of.
  add column spell_from text;
-- However often its turn is looked at, by however many servers.
create unique index pack_regular on spoor.pack (regular_id, spell_from) where regular_id is not null;
create table spoor.pack_mail (
  id bigint generated always as identity primary key,
  pack_id int not null references spoor.pack,
  address text not null,
  asked_by int not null references spoor.person,
  asked_at timestamptz not null default clock_timestamp(),
  -- How long its link leads to the pack, and how often.
  days int not null,
  most int not null,
  -- waiting, then sent or given up.
  state text not null default 'waiting',
  due_at timestamptz not null default clock_timestamp(),
  tries int not null default 0,
  trouble text,
  sent_at timestamptz,
  identity uuid not null default gen_random_uuid()
);
create index pack_mail_of on spoor.pack_mail (pack_id);
create index pack_mail_due on spoor.pack_mail (due_at) where state = 'waiting';
`)
}
