import { mostSorted, type ChangeSort, type SaveSort } from '@spoor/contract'
import { grouped } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

/** Names are put in order as people do, whatever the database's own order of letters. */
const byLetters = 'collate "und-x-icu"'
const who = [`lower(coalesce(k.name, a.name)) ${byLetters}`]
// A label that begins with a number comes by that number.
const record = [
  `lower(t.name) ${byLetters}`,
  `length(substring(s.label from '^[0-9]+'))`,
  `lower(s.label) ${byLetters}`,
]

const saveOrders: Readonly<Record<Exclude<SaveSort, 'time'>, readonly string[]>> = {
  who,
  record,
  channel: [`lower(s.channel) ${byLetters}`],
  reason: [`lower(s.reason) ${byLetters}`],
  save: ['s.id'],
}

/** What PostgreSQL's own numbers read as, in its regular expressions; without a question mark, which Knex would bind. */
export const plainNumber = '^[-]{0,1}[0-9]{1,40}([.][0-9]{1,40}){0,1}$'

/** A value's place: numbers by size before texts by letters. What may not be seen has none. */
const value = (side: 'before' | 'after') => [
  `case when seen.open and c.${side} ~ '${plainNumber}' then c.${side}::numeric end`,
  `case when seen.open then lower(left(c.${side}, 300)) end ${byLetters}`,
]

const changeOrders: Readonly<Record<Exclude<ChangeSort, 'time'>, readonly string[]>> = {
  who,
  record,
  field: [`lower(f.name) ${byLetters}`],
  before: value('before'),
  after: value('after'),
  difference: ['case when seen.open then c.rise end'],
}

export interface SortedRequest {
  /** `<place>_<latest save>` of the page before. */
  after: string | undefined
  limit: number
  descending: boolean
}

/** A save, or one change of it. */
export interface Found {
  captured_at: string
  id: string
  field_id?: number
}

export interface Page {
  rows: Found[]
  next: string | null
}

/**
 * A page by time from an index, at any size. `r.captured_at` and the columns of `r` together name a row.
 * @param columns behind the time, with their types
 */
export async function byTime(
  query: Knex.QueryBuilder,
  columns: Readonly<Record<string, 'bigint' | 'int'>>,
  { after, limit, descending }: SortedRequest,
): Promise<Page> {
  const [sign, order] = descending ? (['<', 'desc'] as const) : (['>', 'asc'] as const)
  const names = ['captured_at', ...Object.keys(columns)]
  if (after !== undefined) {
    const place = after.split('_')
    const types = ['timestamptz', ...Object.values(columns)]
    // The comparison with the time alone lets the planner skip partitions; a row comparison does not.
    query
      .where('r.captured_at', `${sign}=`, place[0]!)
      .whereRaw(`(${names.map(() => '??').join(', ')}) ${sign} (${types.map((type) => `?::${type}`).join(', ')})`, [
        ...names.map((name) => `r.${name}`),
        ...place,
      ])
  }
  const found = (await query.orderBy(names.map((name) => ({ column: `r.${name}`, order }))).limit(limit + 1)) as Found[]
  const rows = found.slice(0, limit)
  const last = rows.at(-1)
  const key = last && [last.captured_at, last.id, ...(last.field_id === undefined ? [] : [last.field_id])]
  return { rows, next: found.length > limit && key ? key.join('_') : null }
}

const named = `join spoor.record_type t on t.id = s.type_id
    join spoor.actor a on a.id = s.actor_id left join spoor.actor k on k.id = a.same_as`

/**
 * A page of what a query finds in another order than that of time. What came after the first page was asked for stays
 * out, so that places hold.
 * @throws Problem when there is more than can be put in order while somebody waits
 */
async function page(
  db: Database,
  query: Knex.QueryBuilder,
  { after, limit, descending }: SortedRequest,
  { from, order, values }: { from: string; order: readonly string[]; values: Knex.RawBinding[] },
): Promise<Page> {
  const found = (await query.limit(mostSorted + 1)) as Found[]
  if (found.length > mostSorted)
    throw new Problem(
      'too-many-to-sort',
      `There are more than ${grouped(mostSorted)} in this scope; so many are only listed by time. Narrow the scope to have it in another order.`,
    )
  const latest = found.reduce((most, { id }) => (BigInt(id) > BigInt(most) ? id : most), '0')
  const [place = '0', upTo = latest] = after?.split('_') ?? []
  const within = found.filter(({ id }) => BigInt(id) <= BigInt(upTo))
  if (within.length === 0) return { rows: [], next: null }
  const directed = order.map((part) => `${part} ${descending ? 'desc' : 'asc'} nulls last`).join(', ')
  const { rows } = await db.raw<{ rows: Found[] }>(
    `${from} order by ${directed}, s.captured_at desc, s.id desc offset ? limit ?`,
    [
      boundArray(within.map((row) => row.captured_at)),
      boundArray(within.map((row) => row.id)),
      ...(within[0]?.field_id === undefined ? [] : [boundArray(within.map((row) => row.field_id!))]),
      ...values,
      Number(place),
      limit,
    ],
  )
  const end = Number(place) + rows.length
  return { rows, next: rows.length > 0 && end < within.length ? `${end}_${upTo}` : null }
}

export async function sortedSaves(
  db: Database,
  query: Knex.QueryBuilder,
  sort: Exclude<SaveSort, 'time'>,
  request: SortedRequest,
): Promise<Page> {
  const from = `select s.captured_at, s.id
    from unnest(?::timestamptz[], ?::bigint[]) as w(captured_at, id)
    join ledger.save s on s.captured_at = w.captured_at and s.id = w.id
    ${named}`
  return await page(db, query, request, { from, order: saveOrders[sort], values: [] })
}

/** @param masked fields whose values have no place in an order, since that would tell of them */
export async function sortedChanges(
  db: Database,
  query: Knex.QueryBuilder,
  sort: Exclude<ChangeSort, 'time'>,
  { masked, ...request }: SortedRequest & { masked: ReadonlySet<number> },
): Promise<Page> {
  const from = `select s.captured_at, s.id, c.field_id
    from unnest(?::timestamptz[], ?::bigint[], ?::int[]) as w(captured_at, id, field_id)
    join ledger.save s on s.captured_at = w.captured_at and s.id = w.id
    join ledger.change c on c.captured_at = w.captured_at and c.save_id = w.id and c.field_id = w.field_id
    join spoor.field f on f.id = c.field_id
    ${named}
    cross join lateral (select c.field_id <> all(?::int[]) as open) as seen`
  return await page(db, query, request, { from, order: changeOrders[sort], values: [boundArray([...masked])] })
}
