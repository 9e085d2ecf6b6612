import type { Knex } from 'knex'

/** Business applications that may show trails on their own pages, and what they were let in with. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.application (
  id int generated always as identity primary key,
  name text not null,
  -- Where its pages are: the only place that a browser may ask from.
  origin text not null,
  key_hash text not null unique,
  made_by int not null references spoor.person,
  made_at timestamptz not null default clock_timestamp(),
  ended_at timestamptz
);
create unique index application_name on spoor.application (lower(name)) where ended_at is null;
create table spoor.panel_ticket (
  ticket_hash text primary key,
  application_id int not null references spoor.application,
  person_id int not null references spoor.person,
  type_id int not null references spoor.record_type,
  record_key text not null,
  ends_at timestamptz not null
);
create index panel_ticket_ends on spoor.panel_ticket (ends_at);
`)
}
