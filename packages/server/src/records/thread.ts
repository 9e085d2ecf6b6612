import type { Database } from '../database/knex.ts'

/** The saves of one record under one key: from a number, included, to another, not included. */
export interface KeySpan {
  key: string
  from: string
  /** Null while it has the key. */
  to: string | null
}

/** More changes of key than a record ever has. */
const mostKeys = 100

/**
 * A record through the keys it had, the first first. It is the record that has, or had last, the key that is asked for:
 * what bore it earlier and gave it up is another.
 */
export async function threadOf(db: Database, typeId: number, key: string): Promise<KeySpan[]> {
  const keyed = () => db('ledger.save').where({ type_id: typeId })
  const latest = await keyed().where({ record_key: key }).max<{ max: string | null }[]>('id as max')
  const spans: KeySpan[] = [{ key, from: '0', to: null }]
  if (latest[0]?.max === null || latest[0] === undefined) return spans
  // Onwards: whoever had the key last may have given it up since.
  for (let last = latest[0].max; spans.length < mostKeys;) {
    const now = spans.at(-1)!
    const moved = await keyed()
      .where({ key_before: now.key })
      .where('id', '>', last)
      .orderBy('id')
      .first<{ id: string; record_key: string } | undefined>('id', 'record_key')
    if (!moved) break
    now.to = moved.id
    spans.push({ key: moved.record_key, from: moved.id, to: null })
    last = moved.id
  }
  // And back to the key that it came from.
  while (spans.length < mostKeys) {
    const first = spans[0]!
    const came = keyed().where({ record_key: first.key }).whereNotNull('key_before').orderBy('id', 'desc')
    if (first.to !== null) void came.where('id', '<', first.to)
    const moved = await came.first<{ id: string; key_before: string } | undefined>('id', 'key_before')
    if (!moved) break
    first.from = moved.id
    spans.unshift({ key: moved.key_before, from: '0', to: moved.id })
  }
  return spans
}
