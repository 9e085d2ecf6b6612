import type { HeldValues } from '@spoor/contract'
import type { Database } from '../../database/knex.ts'
import { Problem } from '../../errors.ts'
import type { SignedIn } from '../../http/bind.ts'
import { maskedFields } from '../../ledger/masked.ts'
import { demandWhole, reachOf } from '../../ledger/reach.ts'
import { referencesOf } from '../../ledger/references.ts'
import { keepSoon } from '../../scope/reading.ts'

const mostValues = 60
/** Longer ones are no choice in a list. */
const longest = 200

/**
 * The values that a field of all records holds now.
 * @throws Problem where it is masked, or whoever asks sees a part of the trail
 */
export async function readHeldValues(db: Database, fieldId: number, person: SignedIn): Promise<HeldValues> {
  demandWhole([{}, reachOf(person) ?? {}])
  const field = await db('spoor.field').where({ id: fieldId }).first<{ name: string } | undefined>('name')
  if (!field) throw new Problem('not-found', `There is no field ${fieldId}.`)
  if ((await maskedFields(db)).has(fieldId))
    throw new Problem('not-allowed', `${field.name} is masked, and what records hold in it is not told.`)
  await keepSoon(db, [fieldId], { personId: person.id })
  const { rows } = await db.raw<{ rows: { value: string | null; records: number }[] }>(
    `select h.latest as value, count(*)::int as records from spoor.held h
      where h.field_id = ? and h.stands and h.to_at = 'infinity' and h.until_save is null
        and (h.latest is null or length(h.latest) <= ?)
      group by 1 order by 2 desc, 1 limit ?`,
    [fieldId, longest, mostValues + 1],
  )
  const shown = rows.slice(0, mostValues)
  const labels = await referencesOf(
    db,
    shown.map(({ value }) => ({ fieldId, before: null, after: value })),
  )
  return {
    values: shown.map(({ value, records }) => ({
      value,
      label: labels.find((one) => one.value === value)?.label ?? null,
      records,
    })),
    more: rows.length > mostValues,
  }
}
