import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { plainQuery } from '../database/plain.ts'
import { placeOfRow, type Mismatch } from '../alarms/mismatch.ts'
import { contentSql, covered, readFact, sealOf, type Covered, type Fact } from './content.ts'
import type { Laundered } from './facts.ts'

const rowsAtOnce = 5000
/** So many of one table are enough to know that it is not to be trusted. */
const mostOfATable = 100

type How = 'altered' | 'put in' | 'missing' | 'put back'

const said: Readonly<Record<How, string>> = {
  altered: 'is not as Spoor wrote it',
  'put in': 'was put in by something other than Spoor',
  missing: 'was taken away by something other than Spoor',
  'put back': 'was written by something other than Spoor, and is again as Spoor wrote it',
}

function mismatch({ table, noun }: Covered, key: string, how: How, by = ''): Mismatch {
  return { place: placeOfRow(table, key), words: `The ${noun} ${numberOf(key)} ${said[how]}${by}.` }
}

/** A key as people read it; what stands in the place of one may be anything that somebody put there. */
function numberOf(key: string): string {
  try {
    return (JSON.parse(key) as unknown[]).map(String).join(', ')
  } catch {
    return `“${key.slice(0, 100)}”`
  }
}

/** What was found when Spoor wrote a row that somebody else had altered before. */
export function launderedMismatch({ one, key }: Laundered): Mismatch {
  return mismatch(one, key, 'altered', ' before it was written last')
}

/** Holds every covered row against its last fact, as of one moment. @returns what differs */
export async function compareFacts(db: Database, key: Buffer): Promise<Mismatch[]> {
  const found: Mismatch[] = []
  for (const one of covered)
    found.push(
      ...(await db.transaction(async (trx) => {
        await trx.raw('set transaction isolation level repeatable read, read only')
        return await compareTable(trx, key, one)
      })),
    )
  return found
}

async function compareTable(trx: Knex.Transaction, key: Buffer, one: Covered): Promise<Mismatch[]> {
  const found = new Map<string, Mismatch>()
  const facts = await lastFacts(trx, one.table)
  const touched = new Map(
    (
      await trx('spoor.touched')
        .where({ relation: one.table })
        .orderBy('at')
        .select<{ key: string; login: string; at: string }[]>('key', 'login', 'at')
    ).map((row) => [row.key, row]),
  )
  const tell = (rowKey: string, how: How) => {
    const by = touched.get(rowKey)
    if (found.size < mostOfATable)
      found.set(
        rowKey,
        mismatch(one, rowKey, how, by ? ` (${by.login}, ${by.at.slice(0, 16).replace('T', ' ')} UTC)` : ''),
      )
  }
  await plainQuery(trx, `declare facts no scroll cursor for ${contentSql(one, false)}`)
  for (;;) {
    const rows = await plainQuery<{ key: string; content: string }>(trx, `fetch ${rowsAtOnce} from facts`)
    if (rows.length === 0) break
    for (const row of rows) {
      const fact = facts.get(row.key)
      facts.delete(row.key)
      if (fact?.state !== 'holds') tell(row.key, 'put in')
      else if (fact.seal !== sealOf(key, one.table, row.key, fact, row.content)) tell(row.key, 'altered')
    }
  }
  for (const [rowKey, fact] of facts) {
    if (fact.state === 'holds') tell(rowKey, 'missing')
    else if (fact.seal !== sealOf(key, one.table, rowKey, fact, '')) tell(rowKey, 'altered')
  }
  // Written and put back: nothing differs, and still nobody but Spoor writes here.
  for (const rowKey of touched.keys()) if (!found.has(rowKey)) tell(rowKey, 'put back')
  return [...found.values()]
}

async function lastFacts(trx: Knex.Transaction, table: string): Promise<Map<string, Fact>> {
  const facts = new Map<string, Fact>()
  for (let after = '0'; ;) {
    const rows = await plainQuery<{ id: string; words: string }>(
      trx,
      `select id::text as id, words from ledger.event where kind = $1 and id > $2 order by ledger.event.id limit 20000`,
      [table, after],
    )
    for (const row of rows.map(readFact)) facts.set(row.key, row)
    if (rows.length < 20_000) return facts
    after = rows.at(-1)!.id
  }
}
