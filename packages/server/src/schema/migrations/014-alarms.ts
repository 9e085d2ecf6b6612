import type { Knex } from 'knex'

/** Everything wrong that somebody must deal with is one kind of thing, kept until it is settled with words. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.alarm drop constraint alarm_source_id_kind_words_settled_at_key;
alter table spoor.alarm rename column kind to code;
alter table spoor.alarm
  -- What it is about, the same each time it is found.
  add column place text,
  add column check_id int references spoor.ledger_check,
  add column save_id bigint,
  add column field_id int,
  add column stored text,
  add column expected text,
  add column after_seal bigint,
  add column before_seal bigint,
  -- When it was seen to hold no longer.
  add column over_at timestamptz,
  add column settled_by int references spoor.person,
  add column settled_why text;
-- What ended by itself was settled without words until now.
update spoor.alarm set place = words, settled_why = case when settled_at is not null then 'It held no longer.' end;
alter table spoor.alarm alter column place set not null;
insert into spoor.alarm (code, raised_at, check_id, place, words, save_id, field_id, stored, expected, after_seal, before_seal, settled_by, settled_at, settled_why)
  select 'ledger-altered', found_at, check_id, place, words, save_id, field_id, stored, expected, after_seal, before_seal, settled_by, settled_at, settled_why
    from spoor.mismatch order by id;
drop table spoor.mismatch;
create unique index alarm_standing on spoor.alarm (source_id, code, place) nulls not distinct where settled_at is null and over_at is null;
create index alarm_open on spoor.alarm (id) where settled_at is null;
`)
}
