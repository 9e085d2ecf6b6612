import type { Knex } from 'knex'

/** What finding by value and by state needs: how far numbers moved, marks, named scopes. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
-- Of a number: what it moved by, and that as a share of what it was.
alter table ledger.change add column rise numeric, add column rise_share double precision;
update ledger.change c
   set rise = c.after::numeric - c.before::numeric,
       rise_share = case when c.before::numeric <> 0 then ((c.after::numeric - c.before::numeric) / abs(c.before::numeric))::double precision end
  from spoor.field f
 where f.id = c.field_id and f.base_type in ('int2', 'int4', 'int8', 'numeric', 'float4', 'float8')
   and c.before ~ '^-?[0-9]+([.][0-9]+)?$' and c.after ~ '^-?[0-9]+([.][0-9]+)?$' and length(c.before) <= 60 and length(c.after) <= 60;
-- Only large moves: of small ones there are many, and they are found by walking back in time.
create index change_rise on ledger.change (rise_share, captured_at) where rise_share > 0.5 or rise_share < -0.5;

-- Written into each source, so that two Spoors never empty one outbox.
insert into spoor.setting (name, value) values ('installation', to_jsonb(gen_random_uuid()::text));

-- Changes are always asked for with the time of their save, which the primary key answers.
drop index ledger.change_save;

-- The whole trail over time by kind of actor: small however many actors and types there are.
create table ledger.hour_kind (
  hour timestamptz not null,
  actor_kind text not null,
  saves bigint not null,
  changes bigint not null,
  primary key (hour, actor_kind)
);
insert into ledger.hour_kind select hour, actor_kind, sum(saves), sum(changes) from ledger.hour_actor group by 1, 2;
create index hour_actor_who on ledger.hour_actor (actor_id, hour);

create table spoor.mark (
  save_id bigint not null,
  mark text not null check (mark in ('reviewed', 'flagged')),
  by int not null references spoor.person,
  at timestamptz not null default now(),
  primary key (save_id, mark)
);
create table spoor.named_scope (
  id int generated always as identity primary key,
  name text not null,
  scope text not null,
  owner int not null references spoor.person,
  shared boolean not null default false,
  unique (owner, name)
);
`)
}
