import {
  groupBy,
  itemPlace,
  mergedValue,
  rehearse,
  valueKind,
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
  const merge = (item: RevertItem, now: string | null) =>
    mergedValue(tables.get(item.typeId)!.fields.get(item.fieldId)!.baseType, { ...item, now })
  return { rehearsed: await asWritten(sourceTrx, tables, rehearse(wanted, current, chosen, merge)), more }
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
    const rows = await readRows(sourceTrx, table, [...table.fields.values()], [...byKey.keys()], {
      lock: 'for update of t',
    })
    for (const [key, held] of rows) {
      const first = byKey.get(key)!
      for (const fieldId of keptOf(first))
        if ((held.get(fieldId) ?? null) !== null && !known.has(itemPlace({ typeId, key, fieldId })))
          more.push({ ...first, fieldId, found: null, target: null, now: null, choice: 'keep', state: 'clear' })
    }
  }
  return more
}

/** What is merged in the form in which the source writes it; what it does not take so, or takes a part of, is not merged. */
async function asWritten(
  sourceTrx: Knex.Transaction,
  tables: ReadonlyMap<number, WritableTable>,
  rehearsed: readonly RehearsedItem[],
): Promise<RehearsedItem[]> {
  const written = new Map<RehearsedItem, string | null>()
  const merged = rehearsed.flatMap((item) =>
    item.state === 'changed-since' && item.merged !== null ? [{ item, value: item.merged }] : [],
  )
  for (const [field, of] of groupBy(merged, ({ item }) => tables.get(item.typeId)!.fields.get(item.fieldId)!)) {
    const values = of.map(({ value }) => value)
    const taken = await rewritten(sourceTrx, field, values)
    for (const [at, { item, value }] of of.entries()) {
      const now = taken?.[at] ?? null
      // A text is cut by its type without a word.
      written.set(item, valueKind(field.baseType) === 'text' && now !== value ? null : now)
    }
  }
  return rehearsed.map((item) => {
    if (item.state !== 'changed-since' || item.merged === null) return item
    const value = written.get(item) ?? null
    return { ...item, merged: value, choice: value === null && item.choice === 'merge' ? 'keep' : item.choice }
  })
}
