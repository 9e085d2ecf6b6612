import { inclusionProof, toHex, type Scope } from '@spoor/core'
import { savePage } from '../ledger/saves.ts'
import { maskedFields } from '../ledger/masked.ts'
import type { Database } from '../database/knex.ts'
import { recomputeSaves } from './recompute.ts'
import { latestSeal } from './sealer.ts'
import { sha256 } from '../ledger/sha256.ts'
import { extentOf, Tree } from './tree.ts'

const pageSize = 200

/** What a file of proved saves begins with. */
export const provedHeading = 'proved saves, 1'

/**
 * The saves of all scopes as lines of JSON: a heading with the latest seal and the key, the saves with what proves each,
 * and a last line with their number, without which the file is not whole. Masked values stay closed.
 */
export async function* provedLines(db: Database, scopes: readonly Scope[]): AsyncGenerator<string> {
  const seal = await latestSeal(db)
  const key = await db('ledger.signing_key').orderBy('number', 'desc').first<{ line: string } | undefined>('line')
  const { first } = await extentOf(db)
  const size = Number(seal?.size ?? 0)
  yield `${JSON.stringify({ spoor: provedHeading, seal: seal?.note ?? null, key: key?.line ?? null })}\n`
  const tree = new Tree(db, first).remembering()
  const masked = await maskedFields(db)
  const nowMs = Date.now()
  let [after, count]: [string | undefined, number] = [undefined, 0]
  do {
    const page = await savePage(db, scopes, { after, limit: pageSize, nowMs })
    // Only what was asked for and may be seen is opened; of the rest the commitments stand.
    const asked = new Map(
      page.saves.map((save) => [save.id, new Set(save.changes.filter((one) => one.inScope).map((one) => one.fieldId))]),
    )
    const saves = await recomputeSaves(
      db,
      page.saves.map((save) => save.id),
    )
    for (const save of saves.reverse()) {
      const index = Number(BigInt(save.id) - first)
      const proved = index >= 0 && index < size
      const proof = proved ? await tree.ask(inclusionProof(sha256, index, size)) : []
      const openings = save.changes
        .filter(({ fieldId, erased }) => !erased && !masked.has(fieldId) && asked.get(save.id)?.has(fieldId))
        .map(({ fieldId, salt, before, after: value }) => ({ fieldId, salt, before, after: value }))
      yield `${JSON.stringify({ index: proved ? index : null, canonical: save.canonical, proof: proof.map(toHex), openings })}\n`
      count++
    }
    after = page.next ?? undefined
  } while (after !== undefined)
  yield `${JSON.stringify({ saves: count })}\n`
}
