import { recordPlace } from '../capture/order.ts'
import type { CapturedValue } from '../value/type.ts'

/** What is done for a value: it is set, or its whole record is made anew or removed. */
export type Act = 'set' | 'recreate' | 'remove'

/** One value that somebody wants set back. */
export interface RevertItem {
  typeId: number
  key: string
  fieldId: number
  /** The value as it was found, i.e. the after-value of the change to be reverted. */
  found: CapturedValue
  /** The value it is to get, i.e. the before-value of that change. */
  target: CapturedValue
  act: Act
}

/** A change to be set back, and what the save that made it did with its record. */
export interface RevertedChange extends Omit<RevertItem, 'act'> {
  action: 'create' | 'change' | 'delete'
}

/**
 * What the source holds now: the value, that its record is not there, or why there is none to be written. A value that `follows`
 * is worked out by the source from others that are to be set back: what it becomes is foretold and compared, never written.
 */
export type CurrentValue =
  | { state: 'value'; value: CapturedValue }
  | { state: 'absent' }
  | { state: 'follows'; value: CapturedValue }
  | { state: 'blocked'; why: BlockReason }

export type BlockReason = 'record-gone' | 'field-gone' | 'field-derived' | 'not-allowed' | 'no-value-kept' | 'erased'

/**
 * `keep` what somebody made of it since, `overwrite` that all the same, `merge` so that only what is to be set back of it goes,
 * or `leave` the value alone whatever it holds.
 */
export type Choice = 'keep' | 'overwrite' | 'merge' | 'leave'

/** What somebody chose, and the value that was there when they did: nobody chose to overwrite another. */
export interface Chosen {
  choice: Choice
  seen: CapturedValue
}

export type RehearsedState =
  | { state: 'clear'; now: CapturedValue; choice: Choice }
  | { state: 'already-so'; now: CapturedValue }
  | { state: 'changed-since'; now: CapturedValue; choice: Choice; merged: CapturedValue }
  | { state: 'follows'; now: CapturedValue }
  | { state: 'blocked'; why: BlockReason }

export type RehearsedItem = RevertItem & RehearsedState

/** Identity of the record of an item. */
export function placeOfRecord({ typeId, key }: Pick<RevertItem, 'typeId' | 'key'>): string {
  return recordPlace(typeId, key)
}

/** Identity of the place an item writes to. */
export function itemPlace(item: Pick<RevertItem, 'typeId' | 'key' | 'fieldId'>): string {
  return `${item.typeId}/${item.fieldId}/${item.key}`
}

/**
 * Several picked changes of one field of one record that follow each other become one item: found by the last of them,
 * set back to before the first. Where something else came between two of them, what that left is what the later ones are
 * set back to: it was nobody's wish to undo it. A record that the first of its changes made is to be removed, one that the last
 * of them deleted is to be made anew; of one that was both there is nothing to set back. `changes` must be in capture order.
 */
export function itemsOfChanges(changes: readonly RevertedChange[]): RevertItem[] {
  const byPlace = new Map<string, RevertedChange>()
  const actions = new Map<string, { first: RevertedChange['action']; last: RevertedChange['action'] }>()
  for (const change of changes) {
    const earlier = byPlace.get(itemPlace(change))
    byPlace.set(itemPlace(change), earlier?.found === change.target ? { ...change, target: earlier.target } : change)
    const known = actions.get(placeOfRecord(change))
    if (known) known.last = change.action
    else actions.set(placeOfRecord(change), { first: change.action, last: change.action })
  }
  return [...byPlace.values()].flatMap(({ action: _, ...item }): RevertItem[] => {
    const { first, last } = actions.get(placeOfRecord(item))!
    if (first === 'create') return last === 'delete' ? [] : [{ ...item, target: null, act: 'remove' }]
    return [{ ...item, act: last === 'delete' ? 'recreate' : 'set' }]
  })
}

/**
 * Compares each item with the value the source holds now. A value that is neither the one found nor the target
 * was changed since and is kept unless `choices` (by {@link itemPlace}) says to overwrite what is there now, or to merge.
 * @param merge what a value becomes when what others made of it since is to stay; null where that cannot be
 */
export function rehearse(
  items: readonly RevertItem[],
  current: (item: RevertItem) => CurrentValue,
  choices: ReadonlyMap<string, Chosen>,
  merge: (item: RevertItem, now: CapturedValue) => CapturedValue = () => null,
): RehearsedItem[] {
  return items.map((item) => {
    const now = current(item)
    const chosen = choices.get(itemPlace(item))
    const clear = (value: CapturedValue): RehearsedItem => ({
      ...item,
      state: 'clear',
      now: value,
      choice: chosen?.choice === 'leave' ? 'leave' : 'overwrite',
    })
    if (now.state === 'blocked') return { ...item, state: 'blocked', why: now.why }
    if (now.state === 'follows') return { ...item, state: 'follows', now: now.value }
    if (now.state === 'absent') {
      if (item.act === 'recreate') return clear(null)
      if (item.act === 'remove') return { ...item, state: 'already-so', now: null }
      return { ...item, state: 'blocked', why: 'record-gone' }
    }
    const { value } = now
    if (item.act !== 'remove' && value === item.target) return { ...item, state: 'already-so', now: value }
    // A record that is to be made anew and stands there was made anew since, whatever it holds.
    if (item.act !== 'recreate' && value === item.found) return clear(value)
    const merged = item.act === 'set' ? merge(item, value) : null
    const choice =
      (chosen?.choice === 'overwrite' && chosen.seen === value) || (chosen?.choice === 'merge' && merged !== null)
        ? chosen.choice
        : 'keep'
    return { ...item, state: 'changed-since', now: value, choice, merged }
  })
}

/**
 * Whether the source works a value out from others that are wanted too.
 * @param derivedFrom the fields that a field follows from, by the tracking plan; null where the source computes it without
 *   saying from what; empty where it is written like any other
 * @returns `written` where it is a value like any other, `follows` where what it follows from is among the items, and
 *   `alone` where nothing that it follows from is
 */
export function following(
  items: readonly Pick<RevertItem, 'typeId' | 'key' | 'fieldId'>[],
  derivedFrom: (typeId: number, fieldId: number) => readonly number[] | null,
): (item: Pick<RevertItem, 'typeId' | 'key' | 'fieldId'>) => 'written' | 'follows' | 'alone' {
  const wanted = new Set(items.map(itemPlace))
  const writable = new Set(
    items.filter((item) => derivedFrom(item.typeId, item.fieldId)?.length === 0).map(placeOfRecord),
  )
  return (item) => {
    const causes = derivedFrom(item.typeId, item.fieldId)
    if (causes?.length === 0) return 'written'
    const moves =
      causes === null
        ? writable.has(placeOfRecord(item))
        : causes.some((fieldId) => wanted.has(itemPlace({ ...item, fieldId })))
    return moves ? 'follows' : 'alone'
  }
}

/** One value to be written, guarded by the value that must still be there. */
export interface GuardedWrite {
  act: Act
  typeId: number
  key: string
  fieldId: number
  expected: CapturedValue
  value: CapturedValue
}

/**
 * What a rehearsed plan will write: the clear items but those to be left, and the changed ones somebody chose to overwrite or to
 * merge. A record is removed only where nothing of it is to be kept.
 */
export function writesOf(rehearsed: readonly RehearsedItem[]): GuardedWrite[] {
  const kept = new Set(
    rehearsed.flatMap((item) =>
      item.act === 'remove' && 'choice' in item && item.choice !== 'overwrite' ? [placeOfRecord(item)] : [],
    ),
  )
  return rehearsed.flatMap((item) => {
    if (item.state !== 'clear' && item.state !== 'changed-since') return []
    if (item.choice !== 'overwrite' && item.choice !== 'merge') return []
    if (item.act === 'remove' && kept.has(placeOfRecord(item))) return []
    const value = item.choice === 'merge' && item.state === 'changed-since' ? item.merged : item.target
    // What stands there again is set like any other value.
    const act = item.act === 'recreate' && item.state === 'changed-since' ? 'set' : item.act
    return [{ act, typeId: item.typeId, key: item.key, fieldId: item.fieldId, expected: item.now, value }]
  })
}

/** The writes that undo these. */
export function invertWrites(writes: readonly GuardedWrite[]): GuardedWrite[] {
  const inverse: Readonly<Record<Act, Act>> = { set: 'set', recreate: 'remove', remove: 'recreate' }
  return [...writes]
    .reverse()
    .map((write) => ({ ...write, act: inverse[write.act], expected: write.value, value: write.expected }))
}
