import type { Knex } from 'knex'
import { counted } from '@spoor/core'
import type { Database, Run } from '../database/knex.ts'
import { runIn } from '../database/plain.ts'
import { contentSql, covered, isGroup, type Covered } from './content.ts'
import { writeFacts } from './facts.ts'

const factsAtOnce = 2000

/** How a table is covered, as the event says that it is from now on. */
function coverWords({ table, columns }: Covered): string {
  return `took under the seals what stands in ${table}: ${columns.join(', ')}`
}

/**
 * Puts the rows of tables that are newly covered, or of which more is, under the seals as they stand; the event about it
 * says so, since what was altered before is taken over with the rest.
 */
export async function adoptEvidence(db: Database, key: Buffer): Promise<void> {
  await db.transaction(async (trx) => {
    await trx.raw(`select pg_advisory_xact_lock(hashtext('spoor.evidence'))`)
    const said = new Set(
      await trx('ledger.event')
        .where({ kind: 'custody', person_id: null })
        .whereLike('words', 'took under the seals what stands in %')
        .pluck<string[]>('words'),
    )
    const run = runIn(trx)
    for (const one of covered) {
      const words = coverWords(one)
      if ([...said].some((known) => known.startsWith(`${words} (`))) continue
      const rows = await adopt(trx, run, key, one)
      await trx('ledger.event').insert({
        kind: 'custody',
        outcome: 'done',
        words: `${words} (${counted(rows, isGroup(one) ? 'group' : 'row')})`,
      })
    }
  })
}

async function adopt(trx: Knex.Transaction, run: Run, key: Buffer, one: Covered): Promise<number> {
  // Whoever writes meanwhile waits, and seals what it writes after this. Keys are only ever added, by the sealer.
  if (one.table !== 'ledger.signing_key') await trx.raw(`lock table ${one.table} in share row exclusive mode`)
  await run('delete from spoor.touched where relation = $1', [one.table])
  const rows = await run<{ key: string; content: string }>(contentSql(one, false), [])
  for (let from = 0; from < rows.length; from += factsAtOnce)
    await writeFacts(
      run,
      key,
      one.table,
      rows.slice(from, from + factsAtOnce).map((row) => ({ rowKey: row.key, state: 'holds', content: row.content })),
    )
  return rows.length
}
