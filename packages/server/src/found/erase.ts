import { commitment, type ErasedFound } from '@spoor/core'
import type { Knex } from 'knex'
import { sha256Hex } from '../ledger/sha256.ts'
import { foundColumns, isErased, saltOf, valuesOf, type FoundRow, type Kept } from '../ledger/found-record.ts'

/** What of an erasure counts here. */
interface Wish {
  id: number
  type_id: number
  record_key: string
  field_id: number
  reach: 'change' | 'record'
}

/**
 * Takes out what was found of a field of a record, where all of it is to go, or else what was found of just the values that
 * were erased. The commitment stays, and the record keeps its leaf. Works as the role that erases.
 */
export async function eraseFound(
  trx: Knex.Transaction,
  { id, type_id, record_key, field_id, reach }: Wish,
  erasedValues: ReadonlySet<string | null>,
): Promise<ErasedFound[]> {
  const { rows } = await trx.raw<{ rows: (FoundRow & { field_ids: number[] })[] }>(
    `select ${foundColumns}, t.field_ids from ledger.found f join spoor.taking t on t.id = f.taking_id
      where f.type_id = ? and f.record_key = ? and ?::int = any(t.field_ids)`,
    [type_id, record_key, field_id],
  )
  const erased: ErasedFound[] = []
  for (const row of rows) {
    const values = valuesOf(row)
    const at = row.field_ids.indexOf(field_id)
    if (isErased(row, field_id) || (reach === 'change' && !erasedValues.has(values[at] ?? null))) continue
    const salt = saltOf(row, field_id)
    if (salt === null) continue
    const value = commitment(sha256Hex, salt, values[at] ?? null)
    const kept: Record<string, Kept> = Object.fromEntries(
      row.field_ids.map((fieldId) => {
        const own = saltOf(row, fieldId)
        return [fieldId, own === null ? row.kept![fieldId]! : { salt: own }]
      }),
    )
    kept[field_id] = { commitment: value }
    values[at] = null
    await trx('ledger.erased_found').insert({
      taking_id: row.taking_id,
      place: row.place,
      field_id,
      erasure_id: id,
      value,
    })
    await trx('ledger.found')
      .where({ taking_id: row.taking_id, place: row.place })
      .update({ vals: JSON.stringify(values), salt: null, kept: JSON.stringify(kept) })
    erased.push({ taking: row.taking_id, place: row.place, fieldId: field_id, value })
  }
  return erased
}
