import { counted, listed } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { listGuards } from '../guards/store.ts'
import type { Occasion } from './occasions.ts'

type How = 'refused' | 'warned' | 'passed'

interface MetRow {
  bucket: string
  guard_id: number
  how: How
  saves: number
  from_at: string
  to_at: string
  /** Of one save: what it was of. */
  label: string | null
  /** Who it was, as the application said, or by which login of the database. */
  by: string[]
}

/**
 * What guards met from a moment on, oldest first. Refusals are those that the source counted between two looks, with who it was as
 * far as the application told; what was let by is told of once for each transaction.
 * @param notBy a watch that did not tell of them
 */
export async function guardsMet(
  db: Database,
  since: string,
  most: number,
  notBy: number | null = null,
): Promise<Occasion[]> {
  const { rows } = await db.raw<{ rows: MetRow[] }>(
    `with counts as (
       select c.*, lag(c.at, 1, '-infinity') over (partition by c.guard_id order by c.at) as after_at from spoor.guard_count c),
     happened as (
       select 'refused:' || c.guard_id || ':' || extract(epoch from c.at) as bucket, c.guard_id, 'refused' as how,
              c.refused::int as saves, c.at as from_at, c.at as to_at, m.label, coalesce(m.by, '{}') as by
         from counts c cross join lateral (
           select case when count(*) = 1 and c.refused = 1 then min(m.label) end as label,
                  array_agg(distinct coalesce(m.actor, m.login)) as by
             from spoor.guard_met m
            where m.guard_id = c.guard_id and m.how = 'refused' and m.at > c.after_at and m.at <= c.at) m
        where c.at >= ?::timestamptz
       union all
       select 'met:' || m.guard_id || ':' || m.how || ':' || coalesce(m.transaction_id, 'note ' || m.note_id), m.guard_id, m.how,
              count(*)::int, min(m.at), max(m.at), case when count(*) = 1 then min(m.label) end,
              array_agg(distinct coalesce(m.actor, m.login))
         from spoor.guard_met m where m.how <> 'refused' and m.at >= ?::timestamptz
        group by 1, 2, 3)
     select * from happened h
      where not exists (select from spoor.watch_firing f where f.watch_id = ? and f.bucket = h.bucket)
      order by h.from_at, h.bucket limit ?`,
    [since, since, notBy, most],
  )
  if (rows.length === 0) return []
  const names = new Map((await listGuards(db)).map((line) => [line.id, line.guard.name]))
  return rows.map((row) => ({
    bucket: row.bucket,
    fires: true,
    from: row.from_at,
    to: row.to_at,
    // Not saves of the ledger: a refused one is in none.
    saves: 0,
    saveIds: [],
    said: [
      {
        words: `${called(names.get(row.guard_id), row.guard_id)} ${metWords(row)}`,
        path: `/watches/guards?guard=${row.guard_id}`,
      },
    ],
  }))
}

/** One that was taken away since has no name any more. */
const called = (name: string | undefined, id: number) => (name === undefined ? `guard ${id}` : `guard “${name}”`)

const mostNamed = 3

function metWords({ how, saves, label, by }: MetRow): string {
  const what = label ?? counted(saves, 'save')
  const named = by.slice(0, mostNamed)
  const who = by.length === 0 ? '' : `, by ${listed(by.length > mostNamed ? [...named, 'others'] : named)}`
  return how === 'passed'
    ? `let ${what} by while it stood open${who}`
    : `${how === 'refused' ? how : 'warned of'} ${what}${who}`
}
