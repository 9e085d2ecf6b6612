import type { Knex } from 'knex'

/** What is gathered under a question: saves, records, packs, corrections, questions and notes, with what people found. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table spoor.case_file (
  id int generated always as identity primary key,
  question text not null,
  owner_id int not null references spoor.person,
  opened_by int not null references spoor.person,
  opened_at timestamptz not null default clock_timestamp(),
  state text not null default 'open' check (state in ('open', 'closed')),
  -- What was found, once it is closed.
  finding text,
  closed_by int references spoor.person,
  closed_at timestamptz,
  check ((state = 'closed') = (finding is not null and closed_by is not null and closed_at is not null))
);
create index case_file_of on spoor.case_file (owner_id) where state = 'open';
create table spoor.case_item (
  id bigint generated always as identity primary key,
  case_id int not null references spoor.case_file,
  save_id bigint,
  type_id int references spoor.record_type,
  record_key text,
  pack_id int references spoor.pack,
  correction_id int references spoor.correction,
  question_id int references spoor.question,
  note_id bigint references spoor.note,
  check (num_nonnulls(save_id, record_key, pack_id, correction_id, question_id, note_id) = 1),
  check ((type_id is null) = (record_key is null)),
  gathered_by int not null references spoor.person,
  gathered_at timestamptz not null default clock_timestamp(),
  removed_by int references spoor.person,
  removed_at timestamptz,
  removed_why text
);
create unique index case_item_once on spoor.case_item
  (case_id, save_id, type_id, record_key, pack_id, correction_id, question_id, note_id) nulls not distinct
  where removed_at is null;
create index case_item_save on spoor.case_item (save_id) where removed_at is null;
-- What was written in a case, in its order: words, findings, why it was opened again, who took it over.
create table spoor.case_entry (
  id bigint generated always as identity primary key,
  case_id int not null references spoor.case_file,
  kind text not null check (kind in ('words', 'finding', 'opened again', 'owner', 'question')),
  text text not null,
  by int not null references spoor.person,
  at timestamptz not null default clock_timestamp()
);
create index case_entry_of on spoor.case_entry (case_id, id);
`)
}
