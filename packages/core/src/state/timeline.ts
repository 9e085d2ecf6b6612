import type { CapturedValue } from '../value/type.ts'
import {
  absent,
  compareInstants,
  firstNotBefore,
  firstPast,
  sameHolding,
  unknown,
  value,
  type Hidden,
  type Holding,
  type Trail,
  type TrailSave,
} from './trail.ts'

/** A spell in which a field held one thing: from an instant, included, until another, not included; null is without end. */
export interface Segment {
  from: string | null
  to: string | null
  holding: Holding
  /** The save that brought it; null where it was there before, or nothing says how it came. */
  by: string | null
  /** Whether a look at the record tells it, and no save does. */
  found: boolean
}

/** What is known of a field just before and from an instant on; null where nothing is. */
interface Evidence {
  at: string
  before: Holding | null
  after: Holding | null
  by: string | null
  found?: true
}

interface Spell {
  from: string
  to: string | null
}

const isBefore = (a: string, b: string) => compareInstants(a, b) < 0
const latest = (a: string, b: string) => (isBefore(a, b) ? b : a)

/** Spells that touch or overlap as one, in order. */
function joined(spells: readonly Spell[]): Spell[] {
  const result: Spell[] = []
  for (const { from, to } of [...spells].sort((a, b) => compareInstants(a.from, b.from))) {
    const last = result.at(-1)
    if (!last || (last.to !== null && isBefore(last.to, from))) result.push({ from, to })
    else if (last.to !== null) last.to = to === null ? null : latest(last.to, to)
  }
  return result
}

/** Whether one of some spells in order, none of which touches another, is going on at an instant. */
function holds(spells: readonly Spell[], at: string): boolean {
  for (let n = spells.length - 1; n >= 0; n--) {
    const { from, to } = spells[n]!
    if (!isBefore(at, from)) return to === null || isBefore(at, to)
  }
  return false
}

function told(of: CapturedValue, hidden: Hidden | null): Holding {
  return hidden === null ? value(of) : unknown(hidden)
}

/** What a save says of a field. A field that a creation or a deletion does not name was NULL, if it was tracked then. */
function evidenceOf(save: TrailSave, fieldId: number, tracked: readonly Spell[]): Evidence | null {
  const { id: by, at, action, changes } = save
  const change = changes.find((one) => one.fieldId === fieldId)
  const side = (held: 'before' | 'after') =>
    change ? told(change[held], change.hidden) : holds(tracked, at) ? value(null) : null
  if (action === 'create') return { at, before: absent, after: side('after'), by }
  if (action === 'delete') return { at, before: side('before'), after: absent, by }
  return change ? { at, before: side('before'), after: side('after'), by } : null
}

/**
 * What a field held from the beginning to the end of time, spell by spell. Something is known where a save or a find says
 * so and, as long as the field was tracked without a break, from there on and back to there. Nothing is known before
 * tracking began or within a gap. That the record was not there holds as long as any of its fields was tracked.
 */
export function timelineOf(trail: Trail, fieldId: number): Segment[] {
  return timelinesOf(trail.coverage, fieldId)(trail)
}

/** The same for many records of a type, whose coverage is gone through once. */
export function timelinesOf(
  coverage: Trail['coverage'],
  fieldId: number,
): (trail: Pick<Trail, 'saves' | 'found'>) => Segment[] {
  const tracked = joined(coverage.filter((spell) => spell.fieldId === fieldId))
  const anyTracked = joined(coverage)
  const cuts = [...tracked, ...anyTracked]
    .flatMap((spell) => (spell.to === null ? [spell.from] : [spell.from, spell.to]))
    .sort(compareInstants)
  const tracking = { tracked, anyTracked, cuts: [...new Set(cuts)] }
  return (trail) => timeline(trail, fieldId, tracking)
}

function timeline(trail: Pick<Trail, 'saves' | 'found'>, fieldId: number, tracking: Tracking): Segment[] {
  const { tracked } = tracking
  const evidence = trail.saves.flatMap((save) => evidenceOf(save, fieldId, tracked) ?? [])
  for (const { at, value: held, hidden } of trail.found.filter((one) => one.fieldId === fieldId))
    evidence.push({ at, before: told(held, hidden), after: told(held, hidden), by: null, found: true })
  evidence.sort((a, b) => compareInstants(a.at, b.at))

  const segments: Segment[] = []
  const add = (segment: Segment) => {
    if (segment.from !== null && segment.from === segment.to) return
    const last = segments.at(-1)
    const goesOn = last && sameHolding(last.holding, segment.holding) && (segment.by === null || segment.by === last.by)
    if (goesOn) {
      last.to = segment.to
      last.found &&= segment.found
    } else segments.push(segment)
  }
  for (let at = 0; at <= evidence.length; at++) {
    const [left, right] = [evidence[at - 1], evidence[at]]
    for (const piece of piecesBetween(left, right, tracking)) add(piece)
  }
  return segments
}

interface Tracking {
  tracked: readonly Spell[]
  anyTracked: readonly Spell[]
  /** Where any of these begins or ends, in order. */
  cuts: readonly string[]
}

/** What is known between two neighbouring pieces of evidence; either may be missing. */
function piecesBetween(
  left: Evidence | undefined,
  right: Evidence | undefined,
  { tracked, anyTracked, cuts: edges }: Tracking,
): Segment[] {
  const [from, to] = [left?.at ?? null, right?.at ?? null]
  const first = from === null ? 0 : firstPast(edges, from)
  const end = to === null ? edges.length : firstNotBefore(edges, to)
  const within = (spells: readonly Spell[], since: string | null) => since !== null && holds(spells, since)
  const carries = (holding: Holding | null, since: string | null) =>
    holding !== null && within(holding.state === 'absent' ? anyTracked : tracked, since)
  const isOfFound = (one: Evidence | undefined) => one?.found === true
  /** What is known of a piece by what comes from before it and what follows from after it. */
  const piece = (since: string | null, until: string | null, ahead: Holding | null, back: Holding | null): Segment => ({
    from: since,
    to: until,
    holding:
      ahead && back
        ? agreed(ahead, back)
        : (ahead ?? back ?? unknown(within(tracked, since) ? 'unseen' : isGap(tracked, since) ? 'gap' : 'untracked')),
    by: ahead !== null && since === from ? (left?.by ?? null) : null,
    found:
      (ahead !== null || back !== null) && (ahead === null || isOfFound(left)) && (back === null || isOfFound(right)),
  })
  const [after, before] = [left?.after ?? null, right?.before ?? null]
  // Nearly always tracking neither begins nor ends between two of them.
  if (first >= end) return [piece(from, to, carries(after, from) ? after : null, carries(before, from) ? before : null)]
  const bounds = [from, ...edges.slice(first, end), to]
  const many = bounds.length - 1
  const ahead: (Holding | null)[] = []
  for (let at = 0, holding = after; at < many; at++) {
    if (!carries(holding, bounds[at]!)) holding = null
    ahead.push(holding)
  }
  const back: (Holding | null)[] = []
  for (let at = many - 1, holding = before; at >= 0; at--) {
    if (!carries(holding, bounds[at]!)) holding = null
    back[at] = holding
  }
  return ahead.map((one, at) => piece(bounds[at]!, bounds[at + 1]!, one, back[at]!))
}

/** What comes from before and what follows from after; a value that may be seen stands for one that may not. */
function agreed(ahead: Holding, back: Holding): Holding {
  if (ahead.state === 'unknown') return back
  if (back.state === 'unknown') return ahead
  return sameHolding(ahead, back) ? ahead : unknown('contradicted')
}

function isGap(tracked: readonly Spell[], from: string | null): boolean {
  const [first, last] = [tracked[0], tracked.at(-1)]
  if (from === null || !first || !last) return false
  return !isBefore(from, first.from) && isBefore(from, last.from)
}

/** The segment that holds at an instant. */
export function segmentAt(segments: readonly Segment[], at: string): Segment | undefined {
  return segments.findLast(({ from }) => from === null || !isBefore(at, from))
}

/** The saves that tell something of each field: all that name it, and every creation and deletion. */
function savesByField({ saves }: Trail, fieldIds: readonly number[]): Map<number, TrailSave[]> {
  const telling = new Map<number, TrailSave[]>(fieldIds.map((fieldId) => [fieldId, []]))
  for (const save of saves)
    if (save.action === 'change') for (const { fieldId } of save.changes) telling.get(fieldId)?.push(save)
    else for (const own of telling.values()) own.push(save)
  return telling
}

/** What each field of a record held at an instant: the same as in its timeline, from the two saves around it alone. */
export function stateAt(trail: Trail, fieldIds: readonly number[], at: string): Map<number, Holding> {
  const telling = savesByField(trail, fieldIds)
  return new Map(
    fieldIds.map((fieldId) => {
      let [left, right]: [TrailSave | undefined, TrailSave | undefined] = [undefined, undefined]
      for (const save of telling.get(fieldId)!)
        if (isBefore(at, save.at)) right = right && !isBefore(save.at, right.at) ? right : save
        else left = left && isBefore(save.at, left.at) ? left : save
      const around = { ...trail, saves: [left, right].flatMap((save) => save ?? []) }
      return [fieldId, segmentAt(timelineOf(around, fieldId), at)?.holding ?? unknown('untracked')]
    }),
  )
}

/** Fields in which two states are not known to be the same: `differs` is null where either is not known. */
export function differences(
  a: ReadonlyMap<number, Holding>,
  b: ReadonlyMap<number, Holding>,
): { fieldId: number; a: Holding; b: Holding; differs: boolean | null }[] {
  return [...a].flatMap(([fieldId, held]) => {
    const other = b.get(fieldId) ?? unknown('untracked')
    const open = held.state === 'unknown' || other.state === 'unknown'
    if (!open && sameHolding(held, other)) return []
    return [{ fieldId, a: held, b: other, differs: open ? null : true }]
  })
}
