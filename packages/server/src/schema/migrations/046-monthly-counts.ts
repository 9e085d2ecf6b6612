import type { Knex } from 'knex'

/** The hourly counts by type, actor and channel once more by month, since a year of hours is a long way to go. */
export async function up(db: Knex): Promise<void> {
  await db.raw(`
create table ledger.month_actor (
  -- The first day of a month of UTC.
  month date not null,
  type_id int not null,
  actor_id int not null,
  actor_kind text not null,
  channel text not null,
  saves bigint not null,
  changes bigint not null,
  primary key (month, type_id, actor_id, channel)
);
insert into ledger.month_actor (month, type_id, actor_id, actor_kind, channel, saves, changes)
select date_trunc('month', hour at time zone 'UTC')::date, type_id, actor_id, min(actor_kind), channel, sum(saves), sum(changes)
  from ledger.hour_actor group by 1, 2, 3, 5;
`)
}
