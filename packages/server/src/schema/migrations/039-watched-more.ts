import type { Knex } from 'knex'

/** Watches of sums, of what stands out, of alarms, and of what Today shows. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- From when it looks, where what it looks at has no number of its own.
alter table spoor.watch add column since timestamptz not null default clock_timestamp();
alter table spoor.watch_firing
  -- What the differences come to, where they are added up.
  add column total numeric,
  -- How many saves are usual for whom and what it counts; NaN where too little is known to say.
  add column usual numeric,
  -- What it says beside its saves: [{words, path}], without any value.
  add column said jsonb not null default '[]';
`)
}
