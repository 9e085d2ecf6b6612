import { fieldDifferences, type FieldDifference, type TrackingPlan } from './model.ts'

/** What is known of one record type's writes, a day on average over a spell. */
export interface TypeActivity {
  /** Rows the source says were added, changed and removed. */
  created: number
  changed: number
  deleted: number
  /** Saves of the type that reached the ledger. */
  saves: number
  /** Changes a day by field id, as the ledger has them. */
  fieldChanges: Readonly<Record<string, number>>
  /** Saves a day that would be left with the fields the draft keeps; asked of the ledger where fields go off. */
  savesLeft: number | null
}

/** How much a plan writes into the ledger. */
export interface PlanLoad {
  savesPerDay: number
  changesPerDay: number
  bytesPerDay: number
}

/** Fields changed together by one save of a record, where nothing better is known. */
const usualChangesPerSave = 2

/**
 * What a plan writes now, and what another would, as far as the source's own counts and the ledger tell:
 * - a type newly tracked makes a save of every row written, with all its fields on creation and deletion;
 * - fields added to a tracked type make a save, at most, of every written row that made none before;
 * - fields that go off take their own changes along, and the saves that had no other.
 *
 * @param bytesPerChange what one change takes in the ledger, indexes and its share of the save included.
 */
export function planImpact(
  from: TrackingPlan,
  to: TrackingPlan,
  activity: ReadonlyMap<number, TypeActivity>,
  bytesPerChange: number,
): { now: PlanLoad; then: PlanLoad } {
  let [saves, changes] = [0, 0]
  for (const [typeId, type] of activity) {
    if (!from.types[typeId]) continue
    saves += type.saves
    changes += Object.values(type.fieldChanges).reduce((sum, perDay) => sum + perDay, 0)
  }
  const now = loadOf(saves, changes, bytesPerChange)
  const byType = new Map<number, FieldDifference[]>()
  for (const one of fieldDifferences(from, to)) byType.set(one.typeId, [...(byType.get(one.typeId) ?? []), one])
  for (const [typeId, differences] of byType) {
    const type = activity.get(typeId)
    if (!type) continue
    const added = differences.filter((one) => one.from === null).length
    const removed = differences.filter((one) => one.to === null)
    const writes = type.created + type.changed + type.deleted
    if (!from.types[typeId]) {
      saves += writes
      changes += (type.created + type.deleted) * added + type.changed * Math.min(added, usualChangesPerSave)
      continue
    }
    const unseen = Math.max(0, writes - type.saves)
    if (added > 0) {
      saves += unseen
      changes += (type.created + type.deleted) * added + unseen * Math.min(added, usualChangesPerSave)
    }
    if (removed.length > 0) {
      saves -= to.types[typeId] ? type.saves - (type.savesLeft ?? type.saves) : type.saves
      changes -= removed.reduce((sum, { fieldId }) => sum + (type.fieldChanges[fieldId] ?? 0), 0)
    }
  }
  return { now, then: loadOf(Math.max(0, saves), Math.max(0, changes), bytesPerChange) }
}

function loadOf(savesPerDay: number, changesPerDay: number, bytesPerChange: number): PlanLoad {
  return { savesPerDay, changesPerDay, bytesPerDay: changesPerDay * bytesPerChange }
}

/** One reading of a source's own counters for a table. */
export interface ActivityReading {
  atMs: number
  created: number
  changed: number
  deleted: number
}

export interface ActivityRate {
  fromMs: number
  toMs: number
  created: number
  changed: number
  deleted: number
}

/**
 * Rows written between the first and last reading, oldest first. Counters that went back were begun again: what they
 * show since is counted from nothing. Null with fewer than two readings.
 */
export function activityBetween(readings: readonly ActivityReading[]): ActivityRate | null {
  const [first, ...rest] = readings
  if (!first || rest.length === 0) return null
  const sum = { created: 0, changed: 0, deleted: 0 }
  let before = first
  for (const reading of rest) {
    for (const name of ['created', 'changed', 'deleted'] as const)
      sum[name] += reading[name] >= before[name] ? reading[name] - before[name] : reading[name]
    before = reading
  }
  return { fromMs: first.atMs, toMs: before.atMs, ...sum }
}
