import type { SaveAction } from '../capture/fold.ts'
import { compareInstants, type CoverageSpell, type FoundValue, type Hidden, type Trail } from './trail.ts'

/** A record's story as it is told to people: with each change whether its values are masked or erased. */
export interface ToldStory {
  saves: readonly {
    id: string
    at: string
    action: SaveAction
    changes: readonly {
      fieldId: number
      before: string | null
      after: string | null
      masked: boolean
      erased: boolean
    }[]
  }[]
  coverage: readonly CoverageSpell[]
  found: readonly FoundValue[]
}

const hiddenOf = ({ masked, erased }: { masked: boolean; erased: boolean }): Hidden | null =>
  erased ? 'erased' : masked ? 'masked' : null

/**
 * What is reckoned with. A value that came cut is only ever compared with others cut alike.
 * @param present what is there now, besides what was found when tracking began
 */
export function trailOf({ saves, coverage, found }: ToldStory, present: readonly FoundValue[] = []): Trail {
  return {
    saves: saves.map(({ id, at, action, changes }) => ({
      id,
      at,
      action,
      changes: changes.map((change) => ({
        fieldId: change.fieldId,
        before: change.before,
        after: change.after,
        hidden: hiddenOf(change),
      })),
    })),
    coverage,
    found: [...found, ...present],
  }
}

/** Fields that were ever tracked or changed, in the order in which they are named by the record type. */
export function fieldsOf({ saves, coverage }: Pick<ToldStory, 'saves' | 'coverage'>): number[] {
  return [
    ...new Set([
      ...coverage.map((one) => one.fieldId),
      ...saves.flatMap((save) => save.changes.map((one) => one.fieldId)),
    ]),
  ]
}

/** Saves that changed a field after one moment and up to another, the oldest first. */
export function savesBetween<S extends { at: string; changes: readonly { fieldId: number }[] }>(
  saves: readonly S[],
  fieldId: number,
  from: string,
  to: string,
): S[] {
  const [first, last] = compareInstants(from, to) <= 0 ? [from, to] : [to, from]
  return saves.filter(
    ({ at, changes }) =>
      compareInstants(first, at) < 0 &&
      compareInstants(at, last) <= 0 &&
      changes.some((one) => one.fieldId === fieldId),
  )
}
