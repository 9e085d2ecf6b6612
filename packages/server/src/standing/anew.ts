import { compareInstants, stand, withFound, type Standing, type StandingFound } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { findingsOf, type Finding } from '../ledger/findings.ts'
import { isErased, valuesOf, type FoundRow } from '../ledger/found-record.ts'
import { threadOf } from '../ledger/thread.ts'
import { beginning } from './kept.ts'
import { readSaves } from './saves.ts'

const atOnce = 2000

/**
 * How a record stands after all saves up to a number, told from its whole trail: where following save by save cannot say
 * which of two came later.
 * @param key the key that it has then, or had last
 * @returns undefined where nothing is known of it, or it has another key by then
 */
export async function toldAnew(
  db: Database,
  typeId: number,
  key: string,
  untilSave: string,
): Promise<Standing | undefined> {
  const spans = await threadOf(db, typeId, key, untilSave)
  if (spans.at(-1)!.key !== key) return undefined
  const found = (await findingsOf(db, typeId, spans)).map((one) => foundHere(one, one.instant))
  let standing: Standing | undefined
  const take = (one: StandingFound) => (standing = withFound(standing, one) ?? standing)
  for (const { key: one, from, to } of spans) {
    const last = to === null || BigInt(to) > BigInt(untilSave) ? untilSave : (BigInt(to) - 1n).toString()
    let after = from === '0' ? '0' : (BigInt(from) - 1n).toString()
    for (;;) {
      const bindings = [typeId, one, after, last]
      const saves = await readSaves(
        db,
        's.type_id = ? and s.record_key = ? and s.id > ? and s.id <= ?',
        bindings,
        atOnce,
      )
      for (const save of saves) {
        // What was found before a save goes before it; then no save meets what was found after it.
        while (found[0] && compareInstants(found[0].at, save.at) < 0) take(found.shift()!)
        const records = new Map(standing ? [[save.keyBefore ?? one, standing]] : [])
        stand(records, [save], () => false)
        standing = records.get(one)
      }
      if (saves.length < atOnce) break
      after = saves.at(-1)!.id
    }
  }
  found.forEach(take)
  return standing
}

/** What was found of a record, as of an instant. */
export function foundHere(
  row: Pick<Finding, 'taking_id' | 'place' | 'label' | 'field_ids'> & Pick<FoundRow, 'vals' | 'kept'>,
  at: string,
): StandingFound {
  const values = valuesOf(row)
  return {
    label: row.label,
    at,
    by: `${row.taking_id}:${row.place}`,
    values: row.field_ids.map((fieldId, n) => ({
      fieldId,
      ...beginning(values[n] ?? null),
      hidden: isErased(row, fieldId) ? 'erased' : null,
    })),
  }
}
