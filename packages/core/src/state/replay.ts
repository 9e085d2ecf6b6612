import type { CapturedValue } from '../value/type.ts'
import type { TrailSave } from './trail.ts'

/** A save of one of many records, which may have changed its key. */
export interface KeyedSave extends TrailSave {
  key: string
  /** The key before, where it was another. */
  keyBefore: string | null
}

/** The values of records by key; a field that is not named is NULL. */
export type Records = Map<string, Map<number, CapturedValue>>

const known = (row: Map<number, CapturedValue>) => new Map([...row].filter(([, held]) => held !== null))

/** Saves step by step: records whose keys changed in one statement did so at once. */
export function* statements<S extends KeyedSave>(saves: Iterable<S>): Generator<S[]> {
  let step: S[] = []
  for (const save of saves) {
    const last = step.at(-1)
    if (last && (save.keyBefore === null || last.keyBefore === null || save.at !== last.at)) {
      yield step
      step = []
    }
    step.push(save)
  }
  if (step.length > 0) yield step
}

/** Records from nothing, save by save in the order of the ledger: for a trail that begins with the records. */
export function replayed(saves: Iterable<KeyedSave>): Records {
  const records: Records = new Map()
  for (const step of statements(saves)) {
    const held = step.map(({ action, key, keyBefore }) =>
      action === 'create' ? new Map<number, CapturedValue>() : (records.get(keyBefore ?? key) ?? new Map()),
    )
    for (const { keyBefore } of step) if (keyBefore !== null) records.delete(keyBefore)
    for (const [n, { action, key, changes }] of step.entries()) {
      const row = held[n]!
      for (const { fieldId, after } of changes) row.set(fieldId, after)
      if (action === 'delete') records.delete(key)
      else records.set(key, known(row))
    }
  }
  return records
}

/**
 * Records as they stood before some saves, from how they stand after them.
 * @param newestFirst the saves from the newest to the oldest
 * @param present is altered
 */
export function unapplied(present: Records, newestFirst: Iterable<KeyedSave>): Records {
  for (const step of statements(newestFirst)) {
    const held = step.map(({ action, key }) =>
      action === 'delete' ? new Map<number, CapturedValue>() : (present.get(key) ?? new Map()),
    )
    for (const { action, key, keyBefore } of step) if (action === 'create' || keyBefore !== null) present.delete(key)
    for (const [n, { action, key, keyBefore, changes }] of step.entries()) {
      if (action === 'create') continue
      const row = held[n]!
      for (const { fieldId, before } of changes)
        if (before === null) row.delete(fieldId)
        else row.set(fieldId, before)
      present.set(keyBefore ?? key, row)
    }
  }
  return present
}
