import type { PresentRecord, RecordStory, Save } from '@spoor/contract'
import {
  stateAt,
  timelineOf,
  trailOf,
  type FoundValue,
  type Holding,
  type Segment,
  type Trail,
  type WhyUnknown,
} from '@spoor/core'
import { shownValue, type ShownValue } from '../value/words.ts'

type Told = Pick<RecordStory, 'saves' | 'coverage' | 'found'>

export interface Held {
  /** What is there now, of fields of which the trail has nothing to tell. */
  found: FoundValue[]
  /** Fields that hold now what no save explains. */
  unexplained: { fieldId: number; trail: Holding; now: string | null }[]
}

/**
 * What the source holds now, beside the trail. It says nothing while changes wait to be collected, or where the story is
 * older than what was read.
 */
export function heldNow(story: Told, present: PresentRecord): Held {
  const fresh = (story.saves.at(-1)?.id ?? null) === present.lastSaveId && !present.waiting && present.there
  if (!fresh) return { found: [], unexplained: [] }
  const known = stateAt(
    trailOf(story),
    present.values.map(({ fieldId }) => fieldId),
    present.at,
  )
  const held: Held = { found: [], unexplained: [] }
  for (const { fieldId, value } of present.values) {
    const trail = known.get(fieldId)!
    if (trail.state === 'unknown' && trail.why === 'unseen')
      held.found.push({ fieldId, at: present.at, value, hidden: null })
    else if (trail.state === 'absent' || (trail.state === 'value' && trail.value !== value))
      held.unexplained.push({ fieldId, trail, now: value })
  }
  return held
}

const reasons: Readonly<Record<WhyUnknown, string>> = {
  untracked: 'not tracked then',
  gap: 'a gap in tracking',
  unseen: 'not known',
  contradicted: 'changed unseen',
  erased: 'erased',
  masked: '••••••',
}

export const whyUnknown = (why: WhyUnknown) => reasons[why]

/** What a field held, for the eye. */
export function holdingShown(
  holding: Holding,
  baseType: string,
  labelOf: (value: string | null) => string | undefined,
): ShownValue {
  if (holding.state === 'absent') return { text: 'no record', isWords: true }
  if (holding.state === 'unknown') return { text: reasons[holding.why], isWords: holding.why !== 'masked' }
  const label = labelOf(holding.value)
  return label === undefined ? shownValue(holding.value, baseType) : { text: label, isWords: false }
}

/** When saves were made, epoch milliseconds, each moment once and in order. */
export function timesOf(saves: readonly Pick<Save, 'at'>[]): number[] {
  return [...new Set(saves.map((save) => Date.parse(save.at)))].sort((x, y) => x - y)
}

/** A lane of the picture: what one field held, spell by spell. */
export interface Lane {
  fieldId: number
  segments: Segment[]
}

export function lanesOf(trail: Trail, fieldIds: readonly number[]): Lane[] {
  return fieldIds.map((fieldId) => ({ fieldId, segments: timelineOf(trail, fieldId) }))
}

export interface HeldLong {
  holding: Holding
  ms: number
  current: boolean
  /** When it was held first; null where that is before anything is known. */
  first: string | null
}

/** How long each value was held in all, the longest first; what is unknown or was no record is not counted. */
export function heldLong({ segments }: Lane, nowMs: number): HeldLong[] {
  const byValue = new Map<string, HeldLong>()
  for (const { from, to, holding } of segments) {
    if (holding.state !== 'value' || from === null) continue
    const ms = (to === null ? nowMs : Date.parse(to)) - Date.parse(from)
    const name = JSON.stringify(holding.value)
    const known = byValue.get(name) ?? { holding, ms: 0, current: false, first: from }
    byValue.set(name, { ...known, ms: known.ms + ms, current: known.current || to === null })
  }
  return [...byValue.values()].sort((a, b) => b.ms - a.ms)
}
