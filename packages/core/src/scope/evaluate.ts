import { assertNever } from '../words/assert-never.ts'
import { partsOf, type ActorKind, type RecordRef, type Scope, type ScopePart } from './model.ts'
import { instantsOf } from './span.ts'

/** What a scope looks at in one change. */
export interface ScopedChange {
  actorId: number
  actorKind: ActorKind
  typeId: number
  fieldId: number
  key: string
  /** The record whose line it is, if it is one. */
  parent: RecordRef | null
  /** When it was made, epoch milliseconds; microseconds as a fraction. */
  atMs: number
}

/** Whether a change is in scope. The server's SQL is held against this on random data. */
export function matches(scope: Scope, change: ScopedChange, nowMs: number): boolean {
  return partsOf(scope).every((part) => holds(part, change, nowMs) !== part.exclude)
}

function holds(part: ScopePart, change: ScopedChange, nowMs: number): boolean {
  switch (part.part) {
    case 'who':
      return part.actors.includes(change.actorId) || part.kinds.includes(change.actorKind)
    case 'what':
      return part.types.includes(change.typeId) || part.fields.includes(change.fieldId)
    case 'record':
      return part.records.some((record) => isIt(record, change) || (part.lines && isIt(record, change.parent)))
    case 'when': {
      const { fromMs, toMs } = instantsOf(part.span, nowMs)
      return (fromMs === null || change.atMs >= fromMs) && (toMs === null || change.atMs < toMs)
    }
    default:
      return assertNever(part)
  }
}

function isIt(record: RecordRef, other: RecordRef | null): boolean {
  return other !== null && record.typeId === other.typeId && record.key === other.key
}
