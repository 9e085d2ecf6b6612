import type { CapturedValue } from '../value/type.ts'
import { statements, type KeyedSave } from './replay.ts'
import { stateAt } from './timeline.ts'
import { compareInstants, unknown, value, type CoverageSpell, type Hidden, type Holding, type Trail } from './trail.ts'

/** The latest that is known of one field of a record. */
export interface Stood {
  value: CapturedValue
  /** When that came about, or was seen. */
  at: string
  /** The save that says so, or `taking:place` of what was found. */
  by: string
  hidden: Hidden | null
  /** Whether only the beginning of the value stands here. */
  cut?: boolean
}

/** A record as it stands: the latest that is known of it. */
export interface Standing {
  label: string
  /** When it came to have its key; null where that was before anything is known. */
  since: string | null
  /** When it was made, where a save says so: a field that says nothing else was NULL then. */
  born: string | null
  /** When it was deleted; its fields are then as they stood last. */
  deleted: string | null
  /** The number of the last save that counts here; `0` where none does. */
  lastSave: string
  fields: Map<number, Stood>
}

export interface StandingChange {
  fieldId: number
  before: CapturedValue
  after: CapturedValue
  hidden: Hidden | null
  cut?: boolean
}

export interface StandingSave extends KeyedSave {
  label: string
  changes: readonly StandingChange[]
}

/** What was found of one record. */
export interface StandingFound {
  label: string
  at: string
  by: string
  values: readonly { fieldId: number; value: CapturedValue; hidden: Hidden | null; cut?: boolean }[]
}

/** Records of one type by their key. */
export type Standings = Map<string, Standing>

const isBefore = (a: string, b: string) => compareInstants(a, b) < 0
export const isOfFound = (by: string) => by.includes(':')

export function unheardOf(label: string): Standing {
  return { label, since: null, born: null, deleted: null, lastSave: '0', fields: new Map() }
}

/**
 * Saves applied to records, in the order of the ledger.
 * @param records is altered, and its records are
 * @returns the keys of records that cannot be told so: a save met what was found after it was captured, and only the
 *   snapshot that was found in says which of them is the later one
 */
export function stand(records: Standings, saves: Iterable<StandingSave>): Set<string> {
  const open = new Set<string>()
  for (const step of statements(saves)) {
    const held = step.map((save) => records.get(save.keyBefore ?? save.key))
    // Records that exchange their keys leave them all before any arrives.
    for (const { keyBefore } of step) if (keyBefore !== null) records.delete(keyBefore)
    const moved = new Set(
      step.flatMap(({ key, keyBefore }) => (keyBefore !== null && open.delete(keyBefore) ? [key] : [])),
    )
    for (const [n, save] of step.entries()) {
      const [standing, torn] = afterSave(held[n], save)
      // Where it comes to somebody was found already: it, by a reading that this save reached the ledger after.
      const met = save.keyBefore !== null && records.get(save.key)?.deleted === null
      records.set(save.key, standing)
      if (torn || met || moved.has(save.key)) open.add(save.key)
    }
  }
  return open
}

function afterSave(before: Standing | undefined, save: StandingSave): [Standing, boolean] {
  const was = before && (save.action === 'create' || before.deleted === null) ? before : unheardOf(save.label)
  const standing: Standing = { ...was, label: save.label, lastSave: save.id, fields: new Map(was.fields) }
  let torn = false
  if (save.action === 'create') {
    Object.assign(standing, { since: save.at, born: save.at, deleted: null })
    // What was found of it already stays; what was there before it was another record.
    for (const [fieldId, { at }] of standing.fields) if (!isBefore(save.at, at)) standing.fields.delete(fieldId)
    torn = standing.fields.size > 0
  }
  if (save.keyBefore !== null) standing.since = save.at
  const gone = save.action === 'delete'
  if (gone) {
    standing.deleted = save.at
    torn = [...standing.fields.values()].some(({ at, by }) => isOfFound(by) && isBefore(save.at, at))
  }
  for (const { fieldId, before: last, after, hidden, cut } of save.changes) {
    const known = standing.fields.get(fieldId)
    if (known && isOfFound(known.by) && isBefore(save.at, known.at)) torn = true
    standing.fields.set(fieldId, { value: gone ? last : after, at: save.at, by: save.id, hidden, ...(cut && { cut }) })
  }
  return [standing, torn]
}

/**
 * What was found, put beside what is known of a record.
 * @returns null where it was found of another, which had the key before
 */
export function withFound(standing: Standing | undefined, found: StandingFound): Standing | null {
  if (standing?.since && isBefore(found.at, standing.since)) return null
  // Made anew while nothing was tracked.
  const isLater = standing?.deleted && isBefore(standing.deleted, found.at)
  if (standing?.deleted && !isLater) return standing
  const next: Standing =
    standing && !isLater
      ? { ...standing, fields: new Map(standing.fields) }
      : { ...unheardOf(found.label), lastSave: standing?.lastSave ?? '0' }
  for (const { fieldId, value: held, hidden, cut } of found.values) {
    const known = next.fields.get(fieldId)
    if (known && !isBefore(known.at, found.at)) continue
    next.fields.set(fieldId, { value: held, at: found.at, by: found.by, hidden, ...(cut && { cut }) })
  }
  return next
}

/**
 * What a field holds at an instant after everything that counts here, by the spells in which the type's fields were tracked.
 * The same as {@link stateAt} says of the whole trail.
 */
export function holdingNow(
  standing: Standing,
  fieldId: number,
  coverage: readonly CoverageSpell[],
  now: string,
): Holding {
  const known = standing.fields.get(fieldId)
  if (standing.deleted === null && known) {
    const open = coverage.find((spell) => spell.fieldId === fieldId && spell.to === null)
    if (open && !isBefore(known.at, open.from)) return known.hidden ? unknown(known.hidden) : value(known.value)
  }
  const save = { id: '0', changes: [] }
  const trail: Trail = {
    coverage,
    saves:
      standing.deleted !== null
        ? [{ ...save, at: standing.deleted, action: 'delete' }]
        : standing.born === null
          ? []
          : [{ ...save, at: standing.born, action: 'create' }],
    found:
      standing.deleted === null && known ? [{ fieldId, at: known.at, value: known.value, hidden: known.hidden }] : [],
  }
  return stateAt(trail, [fieldId], now).get(fieldId)!
}
