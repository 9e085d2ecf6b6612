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
/** Greater than the number of any save. */
const everySave = (2n ** 63n - 1n).toString()

interface Move {
  id: string
  record_key: string
  key_before: string
  /** The first and the last move of its statement: records that exchange keys do so at once. */
  begun: string
  ended: string
}

/**
 * A record through the keys it had, the first first. It is the record that has, or had last, the key that is asked for:
 * whoever bore it before and gave it up is another.
 * @param untilSave as it was after that save
 */
export async function threadOf(
  db: Database,
  typeId: number,
  key: string,
  untilSave: string = everySave,
): Promise<KeySpan[]> {
  const [latest] = await db('ledger.save')
    .where({ type_id: typeId, record_key: key })
    .where('id', '<=', untilSave)
    .max<{ max: string | null }[]>('id as max')
  const spans: KeySpan[] = [{ key, from: '0', to: null }]
  // Onwards: whoever had the key last may have given it up since, but not as it came. Of one that was found and moved on,
  // no save has the key.
  const own = latest?.max ?? '0'
  let last = (await moveOf(db, typeId, 's.id = ?', 's.id', [own]))?.ended ?? own
  while (spans.length < mostKeys) {
    const now = spans.at(-1)!
    const moved = await moveOf(db, typeId, onwards, 's.id', [now.key, last, untilSave])
    if (!moved) break
    now.to = moved.begun
    spans.push({ key: moved.record_key, from: moved.id, to: null })
    last = moved.ended
  }
  // And back to the key that it came from, unless it was made under one that another had left.
  while (spans.length < mostKeys) {
    const first = spans[0]!
    const moved = await moveOf(
      db,
      typeId,
      '(s.record_key = ? or s.key_before = ?) and (?::bigint is null or s.id < ?) and s.id <= ?',
      // Where one came as another left, the one that came is meant.
      'begun desc, s.record_key = ? desc',
      [first.key, first.key, first.to, first.to, untilSave, first.key],
    )
    if (!moved) break
    first.from = moved.id
    if (moved.record_key !== first.key) break
    spans.unshift({ key: moved.key_before, from: '0', to: moved.begun })
  }
  return spans
}

/** The keys that records which left a key after a moment have after a save, or had last. */
export async function movedOn(
  db: Database,
  typeId: number,
  key: string,
  since: string,
  untilSave: string,
): Promise<string[]> {
  const { rows } = await db.raw<{ rows: { id: string; record_key: string }[] }>(
    `select s.id, s.record_key from ledger.save s
      where s.type_id = ? and s.key_before = ? and s.captured_at > ? and s.id <= ? limit ?`,
    [typeId, key, since, untilSave, mostKeys],
  )
  const ends: string[] = []
  for (const { id, record_key } of rows) {
    let [end, last] = [record_key, (await moveOf(db, typeId, 's.id = ?', 's.id', [id]))?.ended ?? id]
    for (let n = 0; n < mostKeys; n++) {
      const moved = await moveOf(db, typeId, onwards, 's.id', [end, last, untilSave])
      if (!moved) break
      ;[end, last] = [moved.record_key, moved.ended]
    }
    ends.push(end)
  }
  return ends
}

const onwards = 's.key_before = ? and s.id > ? and s.id <= ?'

/** The first save, in some order, that changed a key and meets a condition on `s`. */
async function moveOf(
  db: Database,
  typeId: number,
  condition: string,
  order: string,
  bindings: (string | null)[],
): Promise<Move | undefined> {
  const { rows } = await db.raw<{ rows: Move[] }>(
    `select s.id, s.record_key, s.key_before, begun, ended
       from ledger.save s
       cross join lateral (select min(o.id) as begun, max(o.id) as ended from ledger.save o
          where o.type_id = s.type_id and o.captured_at = s.captured_at and o.transaction_id = s.transaction_id and o.key_before is not null) statement
      where s.type_id = ? and s.key_before is not null and ${condition} order by ${order} limit 1`,
    [typeId, ...bindings],
  )
  return rows[0]
}
