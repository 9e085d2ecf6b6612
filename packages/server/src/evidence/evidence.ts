import type { BeforeCommit } from '../database/knex.ts'
import type { Vault } from '../secret.ts'
import { launderedMismatch } from './compare.ts'
import { sealingFacts } from './facts.ts'

/** The key of facts: whoever has only the database has it not. */
export function evidenceKey(vault: Vault): Buffer {
  return vault.derive('evidence')
}

/** For connections by which Spoor writes: what they write of covered tables is put under the seals. */
export function sealsFacts(vault: Vault): BeforeCommit {
  return sealingFacts(evidenceKey(vault), async (run, found) => {
    for (const { place, words } of found.map(launderedMismatch)) {
      const rows = await run(
        `insert into spoor.mismatch (place, words) values ($1, $2) on conflict (place) where settled_at is null do nothing returning id`,
        [place, words],
      )
      if (rows.length > 0)
        await run(`insert into ledger.event (kind, outcome, words) values ('custody', 'done', $1)`, [
          `found the ledger altered: ${words}`,
        ])
    }
  })
}
