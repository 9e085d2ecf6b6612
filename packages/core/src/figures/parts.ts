import { withPart, type ActorKind, type HowPart, type Scope } from '../scope/model.ts'
import { instantOfMicros } from '../time/micros.ts'
import { addDays } from '../time/zone.ts'
import type { FigureMoves, MoveHow } from './over-time.ts'
import type { FigureBy } from './work.ts'

/** What is known of the save that began a spell. */
export interface LifeSave {
  id: number
  /** Microseconds since 1970. */
  at: number
  actorId: number
  actorKind: ActorKind
  runId: number | null
  correctionId: number | null
}

/** What moved a figure, of all saves that did it for the same reason. */
export interface FigurePart {
  /** `known` and `unknown`: something came to be known, or is known no longer. */
  cause: 'run' | 'correction' | 'begun' | 'ended' | 'who' | 'kind' | 'known' | 'unknown'
  /** How many moves of records. */
  saves: number
  /** Exact decimal text. */
  difference: string
  /** When the first of them was. */
  at: string
  /** The runs that its saves belong to; none where they are too many to be named. */
  runIds: number[]
  correctionId: number | null
  actorId: number | null
  kind: ActorKind | null
}

const mostRunsNamed = 200

/** What a move has in common with others that moved the figure for the same reason, by a text of its own. */
function causeOf(
  how: MoveHow,
  save: LifeSave | null,
  isRun: (runId: number) => boolean,
  by: FigureBy,
): Pick<FigurePart, 'cause'> & { of: string | number } {
  if (!save) return { cause: how === 'unknown' ? 'unknown' : 'known', of: '' }
  if (by === 'who') return { cause: 'who', of: save.actorId }
  if (by === 'kind') return { cause: 'kind', of: save.actorKind }
  if (save.correctionId !== null) return { cause: 'correction', of: save.correctionId }
  if (how === 'begun' || how === 'ended') return { cause: how, of: '' }
  // A run of one save is somebody's hand.
  if (save.runId !== null && isRun(save.runId)) return { cause: 'run', of: save.runId }
  return { cause: 'who', of: save.actorId }
}

export interface FigureParts {
  parts: FigurePart[]
  /** So many more, which are not told one by one, and their difference together. */
  rest: { parts: number; difference: string }
}

/** A part while it is summed up. */
interface Part extends Omit<FigurePart, 'at' | 'difference' | 'runIds'> {
  at: number
  sum: bigint
  runs: Set<number>
}

/** What moved a figure, split by cause, the most first. The parts and the rest add up to its difference. */
export function figureParts({ moves, text }: FigureMoves, by: FigureBy, most: number): FigureParts {
  const savesOfRun = new Map<number, number>()
  for (const { save } of moves) {
    const runId = save?.runId
    if (runId) savesOfRun.set(runId, (savesOfRun.get(runId) ?? 0) + 1)
  }
  const isRun = (runId: number) => savesOfRun.get(runId)! > 1
  const parts = new Map<FigurePart['cause'], Map<string | number, Part>>()
  for (const move of moves) {
    const { save } = move
    const { cause, of } = causeOf(move.how, save, isRun, by)
    let own = parts.get(cause)
    if (!own) parts.set(cause, (own = new Map()))
    let part = own.get(of)
    if (!part) {
      part = {
        cause,
        saves: 0,
        at: move.at,
        sum: 0n,
        runs: new Set(),
        correctionId: cause === 'correction' ? save!.correctionId : null,
        actorId: cause === 'who' ? save!.actorId : null,
        kind: cause === 'kind' ? save!.actorKind : null,
      }
      own.set(of, part)
    }
    part.saves++
    part.sum += move.difference
    if (move.at < part.at) part.at = move.at
    if (save?.runId) part.runs.add(save.runId)
  }
  const size = (sum: bigint) => (sum < 0n ? -sum : sum)
  const sorted = [...parts.values()]
    .flatMap((own) => [...own.values()])
    .sort((a, b) => (size(b.sum) > size(a.sum) ? 1 : size(b.sum) < size(a.sum) ? -1 : 0))
  const rest = sorted.slice(most)
  return {
    parts: sorted.slice(0, most).map(({ at, sum, runs, ...part }) => ({
      ...part,
      at: instantOfMicros(at),
      difference: text(sum),
      runIds: runs.size <= mostRunsNamed ? [...runs] : [],
    })),
    rest: { parts: rest.length, difference: text(rest.reduce((all, { sum }) => all + sum, 0n)) },
  }
}

/**
 * The saves of a part, between the ends of two days; null for what no save did, for a run that cannot be named, and for what
 * begun or ended in one of several currencies, since a record may have been moved into it or out of it.
 * @param currencyId the field that tells the currency, where the figure is of one
 * @param by how the figure was split: by cause, what somebody did by hand are their runs of one save
 */
export function scopeOfPart(
  part: FigurePart,
  {
    fieldId,
    currencyId = null,
    a,
    b,
    by,
    zone,
  }: { fieldId: number; currencyId?: number | null; a: string; b: string; by: FigureBy; zone: string },
): Scope | null {
  if (currencyId !== null && (part.cause === 'begun' || part.cause === 'ended')) return null
  const scope: Scope = {
    what: { part: 'what', exclude: false, types: [], fields: currencyId === null ? [fieldId] : [fieldId, currencyId] },
    when: { part: 'when', exclude: false, effective: false, span: { span: 'days', from: addDays(a, 1), to: b, zone } },
  }
  const how = (more: Partial<HowPart>) =>
    withPart(scope, { part: 'how', exclude: false, actions: [], channels: [], runs: [], ...more })
  switch (part.cause) {
    case 'begun':
      return how({ actions: ['create'] })
    case 'ended':
      return how({ actions: ['delete'] })
    case 'run':
    case 'correction':
      return part.runIds.length > 0 ? how({ runs: part.runIds }) : null
    case 'who':
      return withPart(by === 'cause' && part.runIds.length > 0 ? how({ runs: part.runIds }) : scope, {
        part: 'who',
        exclude: false,
        actors: [part.actorId!],
        kinds: [],
      })
    case 'kind':
      return withPart(scope, { part: 'who', exclude: false, actors: [], kinds: [part.kind!] })
    case 'known':
    case 'unknown':
      return null
  }
}
