import type { Knex } from 'knex'

/** Corrections make records anew and remove them, merge values, wait for a second person, and are given out to owners, repeat changes elsewhere. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
alter table spoor.correction add column along int not null default 0,
  add column proposed_by int references spoor.person, add column proposed_at timestamptz, add column proposed_reason text,
  add column sent_back_by int references spoor.person, add column sent_back_words text,
  add column repeats int references spoor.source, add column handed_by int references spoor.person, add column handed_at timestamptz;
alter table spoor.correction_item add column act text not null default 'set' check (act in ('set', 'recreate', 'remove')),
  add column merged text;
`)
}
