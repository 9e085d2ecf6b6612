import { keepMismatchBy } from '../alarms/mismatch.ts'
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
    for (const mismatch of found.map(launderedMismatch)) await keepMismatchBy(run, null, mismatch)
  })
}
