import type { CapturedValue } from '../value/type.ts'

/** One value that somebody wants set back. */
export interface RevertItem {
  typeId: number
  key: string
  fieldId: number
  /** The value as it was found, i.e. the after-value of the change to be reverted. */
  found: CapturedValue
  /** The value it is to get, i.e. the before-value of that change. */
  target: CapturedValue
}

/**
 * What the source holds now: the value, or why there is none to be written. A value that `follows` is worked out by the
 * source from others that are to be set back: what it becomes is foretold and compared, never written.
 */
export type CurrentValue =
  | { state: 'value'; value: CapturedValue }
  | { state: 'follows'; value: CapturedValue }
  | { state: 'blocked'; why: BlockReason }

export type BlockReason = 'record-gone' | 'field-gone' | 'field-derived' | 'not-allowed' | 'no-value-kept'

/** `keep` what somebody made of it since, `overwrite` that all the same, or `leave` the value alone whatever it holds. */
export type Choice = 'keep' | 'overwrite' | 'leave'

/** What somebody chose, and the value that was there when they did: nobody chose to overwrite another. */
export interface Chosen {
  choice: Choice
  seen: CapturedValue
}

export type RehearsedState =
  | { state: 'clear'; now: CapturedValue; choice: Choice }
  | { state: 'already-so'; now: CapturedValue }
  | { state: 'changed-since'; now: CapturedValue; choice: Choice }
  | { state: 'follows'; now: CapturedValue }
  | { state: 'blocked'; why: BlockReason }

export type RehearsedItem = RevertItem & RehearsedState

/** Identity of the place an item writes to. */
export function itemPlace(item: Pick<RevertItem, 'typeId' | 'key' | 'fieldId'>): string {
  return `${item.typeId}/${item.fieldId}/${item.key}`
}

/**
 * Several picked changes of one field of one record that follow each other become one item: found by the last of them,
 * set back to before the first. Where something else came between two of them, what that left is what the later ones are
 * set back to: it was nobody's wish to undo it. `changes` must be in capture order.
 */
export function itemsOfChanges(changes: readonly RevertItem[]): RevertItem[] {
  const byPlace = new Map<string, RevertItem>()
  for (const change of changes) {
    const earlier = byPlace.get(itemPlace(change))
    byPlace.set(itemPlace(change), earlier?.found === change.target ? { ...change, target: earlier.target } : change)
  }
  return [...byPlace.values()]
}

/**
 * Compares each item with the value the source holds now. A value that is neither the one found nor the target
 * was changed since and is kept unless `choices` (by {@link itemPlace}) says to overwrite what is there now.
 */
export function rehearse(
  items: readonly RevertItem[],
  current: (item: RevertItem) => CurrentValue,
  choices: ReadonlyMap<string, Chosen>,
): RehearsedItem[] {
  return items.map((item) => {
    const now = current(item)
    if (now.state === 'blocked') return { ...item, state: 'blocked', why: now.why }
    if (now.state === 'follows') return { ...item, state: 'follows', now: now.value }
    if (now.value === item.target) return { ...item, state: 'already-so', now: now.value }
    const chosen = choices.get(itemPlace(item))
    const leave = chosen?.choice === 'leave'
    if (now.value === item.found)
      return { ...item, state: 'clear', now: now.value, choice: leave ? 'leave' : 'overwrite' }
    const overwrite = chosen?.choice === 'overwrite' && chosen.seen === now.value
    return { ...item, state: 'changed-since', now: now.value, choice: overwrite ? 'overwrite' : 'keep' }
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
    items
      .filter((item) => derivedFrom(item.typeId, item.fieldId)?.length === 0)
      .map(({ typeId, key }) => `${typeId}/${key}`),
  )
  return (item) => {
    const causes = derivedFrom(item.typeId, item.fieldId)
    if (causes?.length === 0) return 'written'
    const moves =
      causes === null
        ? writable.has(`${item.typeId}/${item.key}`)
        : causes.some((fieldId) => wanted.has(itemPlace({ ...item, fieldId })))
    return moves ? 'follows' : 'alone'
  }
}

/** One value to be written, guarded by the value that must still be there. */
export interface GuardedWrite {
  typeId: number
  key: string
  fieldId: number
  expected: CapturedValue
  value: CapturedValue
}

/** What a rehearsed plan will write: the clear items but those to be left, and the changed ones somebody chose to overwrite. */
export function writesOf(rehearsed: readonly RehearsedItem[]): GuardedWrite[] {
  return rehearsed.flatMap((item) => {
    if ((item.state !== 'clear' && item.state !== 'changed-since') || item.choice !== 'overwrite') return []
    return [{ typeId: item.typeId, key: item.key, fieldId: item.fieldId, expected: item.now, value: item.target }]
  })
}

/** The writes that undo these. */
export function invertWrites(writes: readonly GuardedWrite[]): GuardedWrite[] {
  return [...writes].reverse().map((write) => ({ ...write, expected: write.value, value: write.expected }))
}
