import type { BeforeCommit, Run } from '../database/knex.ts'
import {
  contentSql,
  covered,
  factWords,
  isGroup,
  keyInWords,
  readFact,
  sealOf,
  type Covered,
  type Fact,
} from './content.ts'

interface Touched {
  relation: string
  key: string
  before: string | null
}

/** A row that somebody else altered, found when Spoor wrote it next. */
export interface Laundered {
  one: Covered
  key: string
}

const byTable = new Map(covered.map((one) => [one.table, one]))

/**
 * Seals what a transaction wrote, just before it ends: for each covered row a fact in the chain of events. Where a row was
 * not what its last fact says before Spoor wrote it, that is told, since the new fact would hide it.
 */
export function sealingFacts(
  key: Buffer,
  tell: (run: Run, found: readonly Laundered[]) => Promise<void>,
): BeforeCommit {
  return async (run) => {
    // Telling of something writes rows that are covered, too.
    for (;;) {
      const touched = await run<Touched>(
        'select relation, key, before from spoor.touched where transaction = pg_current_xact_id_if_assigned()',
        [],
      )
      if (touched.length === 0) return
      await run('delete from spoor.touched where transaction = pg_current_xact_id_if_assigned()', [])
      const laundered: Laundered[] = []
      for (const table of new Set(touched.map(({ relation }) => relation))) {
        const one = byTable.get(table)
        const own = touched.filter(({ relation }) => relation === table)
        if (one) laundered.push(...(await sealRows(run, key, one, own)))
      }
      if (laundered.length > 0) await tell(run, laundered)
    }
  }
}

/** The last fact of each of some rows. */
async function lastFacts(run: Run, table: string, keys: readonly string[]): Promise<Map<string, Fact>> {
  const rows = await run<{ id: string; words: string }>(
    `select last.id::text as id, last.words from unnest($2::text[]) k
       cross join lateral (select id, words from ledger.event where kind = $1 and position('.' in kind) > 0
          and hashtextextended(${keyInWords}, 0) = hashtextextended(k, 0) and ${keyInWords} = k order by id desc limit 1) last`,
    [table, keys],
  )
  return new Map(rows.map(readFact).map((fact) => [fact.key, fact]))
}

async function sealRows(run: Run, key: Buffer, one: Covered, touched: readonly Touched[]): Promise<Laundered[]> {
  const { table } = one
  const keys = touched.map((row) => row.key)
  const now = await run<{ key: string; content: string }>(contentSql(one, true), [`[${keys.join(',')}]`])
  const contents = new Map(now.map((row) => [row.key, row.content]))
  const last = await lastFacts(run, table, keys)
  const states = keys.flatMap((rowKey): NewFact[] => {
    const content = contents.get(rowKey)
    if (content !== undefined) return [{ rowKey, state: 'holds', content }]
    return last.get(rowKey)?.state === 'holds' ? [{ rowKey, state: 'gone', content: '' }] : []
  })
  await writeFacts(run, key, table, states)
  if (isGroup(one)) return []
  const altered = touched.filter(({ key: rowKey, before }) => {
    const fact = last.get(rowKey)
    const there = fact?.state === 'holds' ? fact : undefined
    if (before === null || there === undefined) return before !== null || there !== undefined
    return there.seal !== sealOf(key, table, rowKey, there, before)
  })
  return altered.map((row) => ({ one, key: row.key }))
}

export interface NewFact {
  rowKey: string
  state: Fact['state']
  content: string
}

export async function writeFacts(run: Run, key: Buffer, table: string, facts: readonly NewFact[]): Promise<void> {
  if (facts.length === 0) return
  const ids = await run<{ id: string }>(
    `select nextval('ledger.event_id_seq')::text as id from generate_series(1, $1::int)`,
    [facts.length],
  )
  const words = facts.map(({ rowKey, state, content }, at) =>
    factWords(state, sealOf(key, table, rowKey, { id: ids[at]!.id, state }, content), rowKey),
  )
  await run(
    `insert into ledger.event (id, kind, outcome, words) overriding system value
     select id, $1, 'done', words from unnest($2::bigint[], $3::text[]) as f (id, words)`,
    [table, ids.map((row) => row.id), words],
  )
}
