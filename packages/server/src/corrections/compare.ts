import {
  groupBy,
  itemPlace,
  mergedValue,
  rehearse,
  type Chosen,
  type CurrentValue,
  type following,
  type RehearsedItem,
  type RevertItem,
} from '@spoor/core'
import type { Knex } from 'knex'
import { plainQuery } from '../database/plain.ts'
import type { Orderly } from './orders.ts'
import { lockCurrent, readRows, rewritten, type Tell, type WritableTable } from './source-writer.ts'
import type { KeptItem } from './store.ts'

/** What it takes to compare a correction with its source. */
export interface Comparable {
  items: KeptItem[]
  tables: Map<number, WritableTable>
  fingerprinted: Set<number>
  follows: ReturnType<typeof following>
  keptOf: Orderly['keptOf']
}

export interface Compared {
  /** In the order of the plan's items, and of those that came to them behind. */
  rehearsed: RehearsedItem[]
  /** Values that records which are to be removed have got since. */
  more: Omit<KeptItem, 'id'>[]
}

export async function compare(
  sourceTrx: Knex.Transaction,
  { items, tables, fingerprinted, follows, keptOf }: Comparable,
  tell: Tell,
): Promise<Compared> {
  await plainQuery(sourceTrx, `set local lock_timeout = '3s'`)
  const more = await gotSince(sourceTrx, tables, items, keptOf)
  const all = [...items, ...more]
  const wanted = all.map(({ typeId, key, fieldId, found, target, act }): RevertItem => ({
    typeId,
    key,
    fieldId,
    found,
    target,
    act,
  }))
  const held = await lockCurrent(sourceTrx, tables, wanted, tell)
  const erased = new Set(items.filter((item) => item.erased).map(itemPlace))
  const current = (item: RevertItem): CurrentValue => {
    if (erased.has(itemPlace(item))) return { state: 'blocked', why: 'erased' }
    // Of what only a fingerprint is kept the value itself is not told either.
    if (fingerprinted.has(item.fieldId)) return { state: 'blocked', why: 'no-value-kept' }
    const now = held(item)
    if (now.state === 'blocked' || item.act === 'remove') return now
    if (item.act === 'recreate')
      return tables.get(item.typeId)?.fields.get(item.fieldId)?.generated
        ? { state: 'follows', value: now.state === 'value' ? now.value : null }
        : now
    if (now.state !== 'value') return now
    const how = follows(item)
    if (how === 'alone') return { state: 'blocked', why: 'field-derived' }
    return how === 'follows' ? { state: 'follows', value: now.value } : now
  }
  const chosen = new Map(
    all.map((item): [string, Chosen] => [itemPlace(item), { choice: item.choice, seen: item.now }]),
  )
  const merge = await asWritten(sourceTrx, tables, wanted, current)
  return { rehearsed: rehearse(wanted, current, chosen, merge), more }
}

/** What records that are to be removed hold in fields that were empty when they were made: somebody wrote that since. */
async function gotSince(
  sourceTrx: Knex.Transaction,
  tables: ReadonlyMap<number, WritableTable>,
  items: readonly KeptItem[],
  keptOf: Orderly['keptOf'],
): Promise<Omit<KeptItem, 'id'>[]> {
  const more: Omit<KeptItem, 'id'>[] = []
  const removed = items.filter(({ act }) => act === 'remove')
  const known = new Set(removed.map(itemPlace))
  for (const [typeId, ofType] of groupBy(removed, (item) => item.typeId)) {
    const table = tables.get(typeId)
    if (!table) continue
    const byKey = new Map(ofType.map((item) => [item.key, item]))
    for (const [key, held] of await readRows(sourceTrx, table, [...table.fields.values()], [...byKey.keys()])) {
      const first = byKey.get(key)!
      for (const fieldId of keptOf(first))
        if ((held.get(fieldId) ?? null) !== null && !known.has(itemPlace({ typeId, key, fieldId })))
          more.push({ ...first, fieldId, found: null, target: null, now: null, choice: 'keep', state: 'clear' })
    }
  }
  return more
}

/** What values would be merged to, in the form in which the source writes them. */
async function asWritten(
  sourceTrx: Knex.Transaction,
  tables: ReadonlyMap<number, WritableTable>,
  items: readonly RevertItem[],
  current: (item: RevertItem) => CurrentValue,
): Promise<(item: RevertItem) => string | null> {
  const merged = items.flatMap((item) => {
    const [now, field] = [current(item), tables.get(item.typeId)?.fields.get(item.fieldId)]
    if (item.act !== 'set' || !field || now.state !== 'value') return []
    if (now.value === item.found || now.value === item.target) return []
    const value = mergedValue(field.baseType, { ...item, now: now.value })
    return value === null ? [] : [{ place: itemPlace(item), field, value }]
  })
  const written = new Map<string, string | null>()
  for (const [field, of] of groupBy(merged, (one) => one.field))
    for (const [at, value] of (
      await rewritten(
        sourceTrx,
        field,
        of.map((one) => one.value),
      )
    ).entries())
      written.set(of[at]!.place, value)
  return (item) => written.get(itemPlace(item)) ?? null
}
