import { answered, inclusionProof, innerHash, readTakingWords, toHex, type NodeAddress } from '@spoor/core'
import type { FoundProof } from '@spoor/contract'
import { maskedFields } from '../ledger/masked.ts'
import { sha256 } from '../ledger/sha256.ts'
import type { Database } from '../database/knex.ts'
import {
  canonicalNow,
  foundColumns,
  isErased,
  saltOf,
  valuesOf,
  type FoundRow,
  type TakingRow,
} from '../ledger/found-record.ts'

/** What proves what was found of one record to somebody who has nothing else: rules 15 and 16 of docs/proof.md. */
export async function proofsOfFound(db: Database, typeId: number, key: string): Promise<FoundProof[]> {
  const { rows } = await db.raw<{ rows: FoundRow[] }>(
    `select ${foundColumns} from ledger.found f where f.type_id = ? and f.record_key = ? order by f.taking_id, f.place`,
    [typeId, key],
  )
  const masked = await maskedFields(db)
  const proofs: FoundProof[] = []
  for (const row of rows) {
    const taking = (await db<TakingRow>('spoor.taking').where({ id: row.taking_id }).first())!
    // One that goes on is bound by nothing yet.
    const words = await wordsOf(db, taking.id)
    if (words === null) continue
    const values = valuesOf(row)
    proofs.push({
      canonical: canonicalNow(taking, row),
      proof: await inclusionOf(db, taking.id, Number(row.place)),
      openings: taking.field_ids.flatMap((fieldId, at) => {
        const salt = masked.has(fieldId) || isErased(row, fieldId) ? null : saltOf(row, fieldId)
        return salt === null ? [] : [{ fieldId, salt, value: values[at] ?? null }]
      }),
      words,
    })
  }
  return proofs
}

async function wordsOf(db: Database, takingId: number): Promise<string | null> {
  const all = await db('ledger.event')
    .whereLike('words', `took in as found %(taking ${takingId}, %`)
    .pluck<string[]>('words')
  return all.find((words) => readTakingWords(words)?.taking === takingId) ?? null
}

async function inclusionOf(db: Database, takingId: number, place: number): Promise<string[]> {
  const rows = await db('ledger.found')
    .where({ taking_id: takingId })
    .orderBy('place')
    .select<{ leaf: Buffer }[]>('leaf')
  const levels: Uint8Array[][] = [rows.map(({ leaf }) => new Uint8Array(leaf))]
  const at = ({ level, index }: NodeAddress): Uint8Array => {
    while (levels.length <= level) {
      const below = levels.at(-1)!
      levels.push(
        Array.from({ length: below.length >> 1 }, (_, n) => innerHash(sha256, below[2 * n]!, below[2 * n + 1]!)),
      )
    }
    return levels[level]![index]!
  }
  return answered(inclusionProof(sha256, place, rows.length), at).map(toHex)
}
