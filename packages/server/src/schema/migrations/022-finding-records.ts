import type { Knex } from 'knex'
import { telling } from '../../ledger/telling.ts'

/** Records are found in a moment among a million: by a part of their name or key, and by what they hold or held. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create extension if not exists pg_trgm with schema spoor;
create index record_words on spoor.record using gin (label spoor.gin_trgm_ops, record_key spoor.gin_trgm_ops);
-- By its first letters, which are too few to be looked for anywhere.
create index record_begins on spoor.record ((lower(left(label, 40)) collate "C"));
create function spoor.words_held(vals jsonb) returns text[] language sql immutable parallel safe set search_path = pg_catalog, pg_temp
return (select coalesce(array_agg(distinct lower(value ->> 0)), '{}') from jsonb_each(vals) where ${telling('(value ->> 0)')});
create index standing_words on spoor.standing using gin (spoor.words_held(vals));
create index change_had on ledger.change ((lower(before) collate "C")) where ${telling('before')};
`)
}
