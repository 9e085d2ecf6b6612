import { valueKind } from '@spoor/core'
import type { StandingCondition } from '@spoor/contract'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'
import { anywhere } from '../ledger/scope-sql.ts'
import { plainNumber } from '../ledger/sorted.ts'
import { keptOf } from './kept.ts'
import { keysHeld, type KeyHeld } from './moved.ts'
import type { Tail } from './tail.ts'

/** Which records of a type, as of when, and in which order. */
export interface GridRequest {
  typeId: number
  words: string | undefined
  /** An instant in UTC. */
  at: string
  /** Whether that is now: then nothing came after it. */
  isNow: boolean
  /** Records that were deleted since are named, too; null where none is to be. */
  deletedSince: string | null
  where: readonly StandingCondition[]
  order: { fieldId: number; descending: boolean } | null
}

const name = 'left(r.label, 200) collate spoor.natural'

type Bindings = (string | number | string[])[]

/** Which records were there at the moment, by a row `r` as it stands. */
function thereThen({ typeId, words, at, isNow, deletedSince }: GridRequest): [sql: string, bindings: Bindings] {
  const conditions = ['(r.deleted is null or r.deleted > ?::timestamptz)']
  const bindings: Bindings = [deletedSince ?? at]
  // One that was made later may be another's successor under its key, which is asked of its saves.
  if (!isNow) {
    conditions.push(
      `(r.born is null or r.born <= ?::timestamptz or exists (select from ledger.save s where s.type_id = ? and s.record_key = r.record_key and s.captured_at <= ?::timestamptz))`,
    )
    bindings.push(at, typeId, at)
  }
  if (words !== undefined) {
    conditions.push(`r.label ilike ? escape '\\'`)
    bindings.push(anywhere(words))
  }
  return [conditions.join(' and '), bindings]
}

const columns = 'r.record_key, r.label, r.born, r.deleted'
const standing = `spoor.standing r where r.type_id = ? and r.record_key not in (select unnest(?::text[]))`
const tailRows = `unnest(?::text[], ?::text[], ?::timestamptz[], ?::timestamptz[], ?::timestamptz[], ?::bigint[], ?::jsonb[])
         as r(record_key, label, since, born, deleted, last_save, vals)`

/** The first of them by name, for which no more is read than is wanted. */
export async function firstInGrid(
  trx: Knex.Transaction,
  request: GridRequest,
  tail: Tail,
  most: number,
): Promise<{ keys: string[]; total: number }> {
  const { typeId } = request
  const [there, bindings] = thereThen(request)
  const kept = [typeId, boundArray(tail.keys), ...bindings]
  const late = [...keptOf([...tail.records]), ...bindings]
  const branch = (alive: string) =>
    `(select ${columns} from ${standing} and ${there} and r.deleted is ${alive} order by ${name}, r.record_key limit ?)`
  const { rows } = await trx.raw<{ rows: { record_key: string }[] }>(
    `select r.record_key from (${branch('null')} union all ${branch('not null')}
       union all (select ${columns} from ${tailRows} where ${there})) r order by ${name}, r.record_key limit ?`,
    [...kept, most, ...kept, most, ...late, most],
  )
  const { rows: counts } = await trx.raw<{ rows: { total: string }[] }>(
    `select (select count(*) from ${standing} and ${there}) + (select count(*) from ${tailRows} where ${there}) as total`,
    [...kept, ...late],
  )
  return { keys: rows.map((row) => row.record_key), total: Number(counts[0]!.total) }
}

/**
 * The keys of all records that were there at a moment and meet the conditions then, in order. A field's value then is what the
 * first change after the moment met, else what it holds now. Whether that is known, and a condition so holds for sure, is
 * reckoned of those that are shown.
 */
export async function keysInGrid(
  trx: Knex.Transaction,
  request: GridRequest,
  tail: Tail,
  most: number,
): Promise<string[]> {
  const { typeId, at, isNow, where, order } = request
  const bindings: Bindings = []
  const wanted = [...new Set([...where.map((one) => one.fieldId), ...(order ? [order.fieldId] : [])])]
  const fields = await trx('spoor.field')
    .whereIn('id', wanted)
    .select<{ id: number; base_type: string }[]>('id', 'base_type')
  const numeric = new Set(fields.flatMap((field) => (valueKind(field.base_type) === 'number' ? [field.id] : [])))
  const moved = isNow ? [] : await movedSince(trx, typeId, at)
  const rows = `with rows as (
     select ${columns}, r.vals from ${standing} union all select ${columns}, r.vals from ${tailRows}),
   moved as (select * from unnest(?::text[], ?::bigint[], ?::bigint[], ?::text[]) as moved(was, since, until, now))`
  bindings.push(
    typeId,
    boundArray(tail.keys),
    ...keptOf([...tail.records]),
    boundArray(moved.map(({ was }) => was)),
    boundArray(moved.map(({ from }) => from)),
    boundArray(moved.map(({ until }) => until)),
    boundArray(moved.map(({ now }) => now)),
  )
  // What a field held then: asked once for each field, for all records together.
  const thens = wanted.map((fieldId) => {
    if (isNow) return ''
    bindings.push(typeId, fieldId, at)
    return `, then_${fieldId} as materialized (
     select distinct on (key) key, before from (
       select case when m.was is null then c.record_key else m.now end as key, c.before, c.captured_at, c.save_id
         from ledger.change c
         left join moved m on m.was = c.record_key and c.save_id >= m.since and (m.until is null or c.save_id < m.until)
        where c.type_id = ? and c.field_id = ? and c.captured_at > ?::timestamptz) as later
      order by key, captured_at, save_id)`
  })
  const joins = isNow ? '' : wanted.map((id) => ` left join then_${id} on then_${id}.key = r.record_key`).join('')
  const held = (fieldId: number) => {
    const now = `r.vals -> '${fieldId}' ->> 0`
    return isNow ? `(${now})` : `(case when then_${fieldId}.key is null then ${now} else then_${fieldId}.before end)`
  }
  const number = (text: string) => `case when ${text} ~ '${plainNumber}' then ${text}::numeric end`
  const conditions: string[] = []
  const add = (sql: string, ...values: (string | number)[]) => {
    conditions.push(sql)
    bindings.push(...values)
  }
  const [there, thereBindings] = thereThen(request)
  conditions.push(there)
  bindings.push(...thereBindings)
  for (const { fieldId, is, text } of where) {
    const value = held(fieldId)
    const compared = numeric.has(fieldId) && new RegExp(plainNumber).test(text)
    const [left, right] = compared ? [number(value), '?::numeric'] : [`${value} collate "C"`, '?']
    if (is === 'empty') add(`${value} is null`)
    else if (is === 'filled') add(`${value} is not null`)
    else if (is === 'containing') add(`${value} ilike ? escape '\\'`, anywhere(text))
    else add(`${left} ${{ equal: '=', other: 'is distinct from', more: '>', less: '<' }[is]} ${right}`, text)
  }
  const by: string[] = []
  if (order) {
    const direction = `${order.descending ? 'desc' : 'asc'} nulls last`
    const value = held(order.fieldId)
    if (numeric.has(order.fieldId)) by.push(`${number(value)} ${direction}`)
    by.push(`left(${value}, 300) collate spoor.natural ${direction}`)
  }
  // How many changes there were since is not known to the planner, who would look through them for each record anew.
  await trx.raw('set local enable_nestloop = off')
  const { rows: found } = await trx.raw<{ rows: { record_key: string }[] }>(
    `${rows}${thens.join('')}
     select r.record_key from rows r${joins} where ${conditions.join(' and ')} order by ${[...by, name, 'r.record_key'].join(', ')} limit ?`,
    [...bindings, most],
  )
  await trx.raw('set local enable_nestloop = on')
  return found.map((row) => row.record_key)
}

/** Whose the keys of a type were after a moment, where that is not who has them now. */
export async function movedSince(trx: Knex, typeId: number, at: string): Promise<KeyHeld[]> {
  const moves = await trx('ledger.save')
    .where({ type_id: typeId })
    .whereNotNull('key_before')
    .where('captured_at', '>', at)
    .orderBy('id')
    .select<{ id: string; captured_at: string; transaction_id: string; key_before: string; record_key: string }[]>(
      'id',
      'captured_at',
      'transaction_id',
      'key_before',
      'record_key',
    )
  return keysHeld(
    moves.map((move) => ({
      id: move.id,
      statement: `${move.transaction_id} ${move.captured_at}`,
      was: move.key_before,
      key: move.record_key,
    })),
  )
}
