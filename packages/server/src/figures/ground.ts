import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { maskedFields } from '../ledger/masked.ts'
import type { Pace } from '../work/answering.ts'

/** What is worked out, and for whom. */
export interface WorkRequest<W> {
  work: W
  zone: string
  /** Fields whose values are not to be read, beside those that are masked. */
  closed?: ReadonlySet<number>
  /** Who may stop what has to be read for it. */
  personId?: number | null
  /** How long it may take; a pack that is made waits for as long as it does. */
  pace?: Pace
}

export interface FieldOfType {
  id: number
  typeId: number
  name: string
  plural: string
  baseType: string
}

/** @throws Problem where there is no such field, or it may not be looked into */
export async function demandField(
  db: Database,
  fieldId: number | null,
  closed: ReadonlySet<number> = new Set(),
): Promise<FieldOfType> {
  if (fieldId === null) throw new Problem('bad-request', 'No field is named. Nothing was reckoned: choose one.')
  const field = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('f.id', fieldId)
    .first<FieldOfType | undefined>('f.id', 'f.type_id as typeId', 'f.name', 't.plural', 'f.base_type as baseType')
  if (!field) throw new Problem('not-found', `There is no field ${fieldId}. Nothing was reckoned.`)
  if ((await maskedFields(db)).has(field.id))
    throw new Problem(
      'not-allowed',
      `${field.name} of ${field.plural} is masked, and is not found out by adding it up.`,
    )
  if (closed.has(field.id))
    throw new Problem('not-allowed', `${field.name} of ${field.plural} is left out there, and is not added up either.`)
  return field
}

/** A field as answers name it. */
export const named = ({ id, typeId, name, plural }: FieldOfType) => ({ id, typeId, name, plural })
