import { canonicalFound, commitment, foundSalt, foundSalts, leafText, type FoundRecord } from '@spoor/core'
import { sha256Hex } from './sha256.ts'

/** One look at the records of a type. */
export interface TakingRow {
  id: number
  job_id: number
  source_id: number
  type_id: number
  plan_version: number
  field_ids: number[]
  began_at: string
  last_key: string | null
  records: string
  state: 'going' | 'whole' | 'stopped'
  ended_at: string | null
  root: string | null
}

/** What was found of one record, as it is kept. */
export interface FoundRow {
  taking_id: number
  place: string
  type_id: number
  record_key: string
  label: string
  parent_key: string | null
  at: string
  snapshot: string
  vals: string
  /** In hexadecimal digits; null where something was erased. */
  salt: string | null
  kept: Record<string, Kept> | null
  leaf: string
}

/** Of a record of which something was erased: a field's own salt, or the commitment to what is gone. */
export type Kept = { salt: string } | { commitment: string }

/** How a row of `ledger.found` is read. */
export const foundColumns = `f.taking_id, f.place, f.type_id, f.record_key, f.label, f.parent_key, f.at, f.snapshot, f.vals, encode(f.salt, 'hex') as salt, f.kept, encode(f.leaf, 'hex') as leaf`

/** By the taking's fields; of what is no list, since somebody wrote there, nothing. */
export function valuesOf({ vals }: Pick<FoundRow, 'vals'>): (string | null)[] {
  try {
    const values: unknown = JSON.parse(vals)
    return Array.isArray(values) ? (values as (string | null)[]) : []
  } catch {
    return []
  }
}

export function isErased({ kept }: Pick<FoundRow, 'kept'>, fieldId: number): boolean {
  const one = kept?.[fieldId]
  return one !== undefined && 'commitment' in one
}

/** The salt that opens the commitment to a field's value; null of one that was erased. */
export function saltOf({ salt, kept }: Pick<FoundRow, 'salt' | 'kept'>, fieldId: number): string | null {
  const one = kept?.[fieldId]
  if (one) return 'salt' in one ? one.salt : null
  return salt === null ? null : foundSalt(sha256Hex, salt, fieldId)
}

type Placed = Pick<FoundRow, 'place' | 'record_key' | 'label' | 'parent_key' | 'at' | 'snapshot'>

/** The canonical form of what was found (docs/proof.md, rule 15), from the commitments to its values. */
export function canonicalOf(
  taking: Pick<TakingRow, 'id' | 'source_id' | 'type_id' | 'plan_version' | 'field_ids'>,
  row: Placed,
  commitmentOf: (fieldId: number, at: number) => string,
): string {
  const found: FoundRecord = {
    taking: taking.id,
    place: Number(row.place),
    sourceId: taking.source_id,
    typeId: taking.type_id,
    planVersion: taking.plan_version,
    key: row.record_key,
    label: row.label,
    parentKey: row.parent_key,
    at: row.at,
    snapshot: row.snapshot,
    values: taking.field_ids.map((fieldId, at) => ({ fieldId, value: commitmentOf(fieldId, at) })),
  }
  return canonicalFound(found)
}

/** The canonical form of a row as it is kept now. */
export function canonicalNow(taking: TakingRow, row: FoundRow): string {
  const values = valuesOf(row)
  const salts = row.salt === null ? null : foundSalts(sha256Hex, row.salt, taking.field_ids)
  return canonicalOf(taking, row, (fieldId, at) => {
    const one = row.kept?.[fieldId]
    const value = values[at] ?? null
    // Where something was erased there is nothing, whatever somebody puts there.
    if (one && 'commitment' in one) return value === null ? one.commitment : ''
    if (one) return commitment(sha256Hex, one.salt, value)
    return salts === null ? '' : commitment(sha256Hex, salts[at]!, value)
  })
}

export const leafOf = (canonical: string) => sha256Hex(leafText(canonical))
