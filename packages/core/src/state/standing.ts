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

function unheardOf(label: string): Standing {
  return { label, since: null, born: null, deleted: null, lastSave: '0', fields: new Map() }
}

/**
 * Whether a save came after a finding, although it was captured before: its transaction was under way when somebody looked.
 * @param by the finding, as {@link Stood} names it
 */
export type ComesAfter<S extends StandingSave> = (save: S, by: string) => boolean

/**
 * Saves applied to records, in the order of the ledger. What was found later than a save was captured is the later of the
 * two, unless that save came after it all the same.
 * @param records is altered, and its records are
 */
export function stand<S extends StandingSave>(records: Standings, saves: Iterable<S>, comesAfter: ComesAfter<S>): void {
  for (const step of statements(saves)) {
    const held = step.map((save) => records.get(save.keyBefore ?? save.key))
    // Records that exchange their keys leave them all before any arrives.
    for (const [n, save] of step.entries()) {
      if (save.keyBefore === null) continue
      // What was found there since is another's, which came after it.
      const other = foundSince(held[n], save, comesAfter)
      if (other) records.set(save.keyBefore, other)
      else records.delete(save.keyBefore)
    }
    for (const [n, save] of step.entries())
      if (save.keyBefore === null) records.set(save.key, afterSave(held[n], save, comesAfter))
      else {
        const arrived = afterSave(before(held[n], save, comesAfter), save, comesAfter)
        // It was found here already, by a reading that this save reached the ledger after.
        for (const [fieldId, stood] of foundSince(records.get(save.key), save, comesAfter)?.fields ?? [])
          arrived.fields.set(fieldId, stood)
        records.set(save.key, arrived)
      }
  }
}

function isLater<S extends StandingSave>({ at, by }: Stood, save: S, comesAfter: ComesAfter<S>): boolean {
  return isOfFound(by) && isBefore(save.at, at) && !comesAfter(save, by)
}

/** What is known of a key by findings that are later than a save alone; null where nothing is. */
function foundSince<S extends StandingSave>(
  standing: Standing | undefined,
  save: S,
  comesAfter: ComesAfter<S>,
): Standing | null {
  const fields = [...(standing?.fields ?? [])].filter(([, stood]) => isLater(stood, save, comesAfter))
  if (!standing || fields.length === 0) return null
  return { ...unheardOf(standing.label), lastSave: save.id, fields: new Map(fields) }
}

/** The rest of it. */
function before<S extends StandingSave>(
  standing: Standing | undefined,
  save: S,
  comesAfter: ComesAfter<S>,
): Standing | undefined {
  if (!standing) return undefined
  const fields = [...standing.fields].filter(([, stood]) => !isLater(stood, save, comesAfter))
  return { ...standing, fields: new Map(fields) }
}

function afterSave<S extends StandingSave>(held: Standing | undefined, save: S, comesAfter: ComesAfter<S>): Standing {
  const since = foundSince(held, save, comesAfter)
  const told = save.changes.map(({ fieldId, before: last, after, hidden, cut }): [number, Stood] => [
    fieldId,
    { value: save.action === 'delete' ? last : after, at: save.at, by: save.id, hidden, ...(cut && { cut }) },
  ])
  const { label, id: lastSave } = save
  const later = [...(since?.fields ?? [])]
  switch (save.action) {
    case 'create':
      // What was there before it was another record.
      return { label, since: save.at, born: save.at, deleted: null, lastSave, fields: new Map([...told, ...later]) }
    case 'delete':
      // Found later, it was made anew while nothing was tracked.
      if (since) return since
      return { ...(held ?? unheardOf(label)), label, deleted: save.at, lastSave, fields: merged(held, told) }
    default: {
      const alive = held?.deleted === null ? held : unheardOf(label)
      return {
        ...alive,
        label,
        since: save.keyBefore === null ? alive.since : save.at,
        lastSave,
        fields: merged(alive, [...told, ...later]),
      }
    }
  }
}

const merged = (standing: Standing | undefined, fields: readonly [number, Stood][]) =>
  new Map([...(standing?.fields ?? []), ...fields])

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
