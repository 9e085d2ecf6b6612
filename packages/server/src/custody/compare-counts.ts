import type { Database } from '../database/knex.ts'
import type { CountTable } from './count-sums.ts'
import type { Mismatch } from '../alarms/mismatch.ts'

/** So many of one kind of count are told one by one. */
const mostTold = 50

export function strayChange(saveId: string, fieldId: number): Mismatch {
  return {
    place: `stray change ${saveId} ${fieldId}`,
    words: `A change says that it belongs to save ${saveId}, and no such save was made at its time.`,
    saveId,
    fieldId,
  }
}

interface Query {
  /** What differs if it is worth asking; else it is asked always, and costs little. */
  of?: readonly CountTable[]
  sql: string
  told(row: Record<string, string>): Mismatch
}

const spell = (row: Record<string, string>) => `the hour from ${new Date(row['hour']!).toISOString().slice(0, 16)}Z`

/** What is kept beside saves and changes and can be counted from them. Both sides are read in one statement, of one moment. */
const queries: readonly Query[] = [
  {
    of: ['field'],
    sql: `select coalesce(c.hour, r.hour) as hour, coalesce(c.field_id, r.field_id) as field, coalesce(r.changes, 0) as stored, coalesce(c.n, 0) as expected
            from (select date_trunc('hour', captured_at, 'UTC') as hour, type_id, field_id, count(*) as n from ledger.change group by 1, 2, 3) c
            full join ledger.hour_field r on r.hour = c.hour and r.type_id = c.type_id and r.field_id = c.field_id
           where coalesce(r.changes, 0) <> coalesce(c.n, 0)`,
    told: (row) => ({
      place: `count ${row['hour']} field ${row['field']}`,
      words: `The count of changes of a field in ${spell(row)} is ${row['stored']}, and there are ${row['expected']}.`,
      fieldId: Number(row['field']),
      stored: row['stored']!,
      expected: row['expected']!,
    }),
  },
  {
    of: ['actor', 'kind'],
    sql: `with counted as materialized (
            select date_trunc('hour', s.captured_at, 'UTC') as hour, s.type_id, s.actor_id, s.channel, s.actor_kind, count(*) as saves, coalesce(sum(n.changes), 0) as changes
              from ledger.save s left join (select captured_at, save_id, count(*) as changes from ledger.change group by 1, 2) n on n.captured_at = s.captured_at and n.save_id = s.id
             group by 1, 2, 3, 4, 5)
          (select 'actor' as of, coalesce(c.hour, r.hour) as hour, coalesce(c.actor_id, r.actor_id)::text as who, coalesce(c.type_id, r.type_id) as type,
                  coalesce(r.saves, 0) || ' saves, ' || coalesce(r.changes, 0) || ' changes' || coalesce(', ' || r.actor_kind, '') as stored,
                  coalesce(c.saves, 0) || ' saves, ' || coalesce(c.changes, 0) || ' changes' || coalesce(', ' || c.actor_kind, '') as expected
             from (select hour, type_id, actor_id, channel, min(actor_kind) as actor_kind, sum(saves) as saves, sum(changes) as changes from counted group by 1, 2, 3, 4) c
             full join ledger.hour_actor r on r.hour = c.hour and r.type_id = c.type_id and r.actor_id = c.actor_id and r.channel = c.channel
            where coalesce(r.saves, 0) <> coalesce(c.saves, 0) or coalesce(r.changes, 0) <> coalesce(c.changes, 0) or r.actor_kind is distinct from c.actor_kind
            limit ${mostTold})
          union all
          (select 'kind of actor', coalesce(c.hour, r.hour), coalesce(c.actor_kind, r.actor_kind), 0,
                  coalesce(r.saves, 0) || ' saves, ' || coalesce(r.changes, 0) || ' changes', coalesce(c.saves, 0) || ' saves, ' || coalesce(c.changes, 0) || ' changes'
             from (select hour, actor_kind, sum(saves) as saves, sum(changes) as changes from counted group by 1, 2) c
             full join ledger.hour_kind r on r.hour = c.hour and r.actor_kind = c.actor_kind
            where coalesce(r.saves, 0) <> coalesce(c.saves, 0) or coalesce(r.changes, 0) <> coalesce(c.changes, 0)
            limit ${mostTold})`,
    told: (row) => ({
      place: `count ${row['hour']} ${row['of']} ${row['who']} type ${row['type']}`,
      words: `The count of ${row['of'] === 'actor' ? 'an actor' : 'a kind of actor'} in ${spell(row)} says ${row['stored']}, and there are ${row['expected']}.`,
      stored: row['stored']!,
      expected: row['expected']!,
    }),
  },
  {
    of: ['month'],
    sql: `select coalesce(c.month, r.month)::text as month, coalesce(c.actor_id, r.actor_id) as who, coalesce(c.type_id, r.type_id) as type,
                 coalesce(r.saves, 0) || ' saves, ' || coalesce(r.changes, 0) || ' changes' || coalesce(', ' || r.actor_kind, '') as stored,
                 coalesce(c.saves, 0) || ' saves, ' || coalesce(c.changes, 0) || ' changes' || coalesce(', ' || c.actor_kind, '') as expected
            from (select date_trunc('month', s.captured_at at time zone 'UTC')::date as month, s.type_id, s.actor_id, s.channel, min(s.actor_kind) as actor_kind,
                         count(*) as saves, coalesce(sum(n.changes), 0) as changes
                    from ledger.save s left join (select captured_at, save_id, count(*) as changes from ledger.change group by 1, 2) n on n.captured_at = s.captured_at and n.save_id = s.id
                   group by 1, 2, 3, 4) c
            full join ledger.month_actor r on r.month = c.month and r.type_id = c.type_id and r.actor_id = c.actor_id and r.channel = c.channel
           where coalesce(r.saves, 0) <> coalesce(c.saves, 0) or coalesce(r.changes, 0) <> coalesce(c.changes, 0) or r.actor_kind is distinct from c.actor_kind`,
    told: (row) => ({
      place: `count ${row['month']} actor ${row['who']} type ${row['type']}`,
      words: `The count of an actor in the month of ${row['month']!.slice(0, 7)} says ${row['stored']}, and there are ${row['expected']}.`,
      stored: row['stored']!,
      expected: row['expected']!,
    }),
  },
  {
    // Those of saves under seal are met on the way through them. Each side for itself, so that an index serves.
    sql: `select c.save_id, c.field_id from (
            select * from ledger.change where save_id < (select first_save_id from ledger.sealing)
            union all select * from ledger.change where save_id > (select last_save_id from ledger.head)) c
           where not exists (select from ledger.save s where s.id = c.save_id and s.captured_at = c.captured_at)`,
    told: (row) => strayChange(row['save_id']!, Number(row['field_id'])),
  },
  {
    sql: `select id from ledger.save where id < 1 union all select id from ledger.save where id > (select last_save_id from ledger.head)`,
    told: (row) => ({
      place: `save ${row['id']} outside`,
      words: `Save ${row['id']} has a number that was never drawn: it was put in.`,
      saveId: row['id']!,
    }),
  },
  {
    of: ['run'],
    sql: `select r.id, r.saves as stored, coalesce(c.n, 0) as expected from ledger.run r left join (select run_id, count(*) as n from ledger.save where run_id is not null group by 1) c on c.run_id = r.id where r.saves <> coalesce(c.n, 0)`,
    told: (row) => ({
      place: `run ${row['id']}`,
      words: `Run ${row['id']} says that it has ${row['stored']} saves, and there are ${row['expected']}.`,
      stored: row['stored']!,
      expected: row['expected']!,
    }),
  },
]

/** @param differing what is known to be counted otherwise than it is: counting all of a ledger anew takes long */
export async function compareCounts(db: Database, differing: readonly CountTable[]): Promise<Mismatch[]> {
  const found: Mismatch[] = []
  for (const { of, sql, told } of queries) {
    if (of && !of.some((one) => differing.includes(one))) continue
    const { rows } = await db.raw<{ rows: Record<string, unknown>[] }>(`${sql} limit ${2 * mostTold}`)
    found.push(
      ...rows.map((row) => told(Object.fromEntries(Object.entries(row).map(([name, value]) => [name, String(value)])))),
    )
  }
  return found
}
