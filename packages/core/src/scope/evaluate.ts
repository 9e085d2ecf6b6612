import { assertNever } from '../words/assert-never.ts'
import { partsOf, type ActorKind, type Scope, type ScopePart } from './model.ts'
import { instantsOf } from './span.ts'

/** What a scope looks at in one change. */
export interface ScopedChange {
  actorId: number
  actorKind: ActorKind
  typeId: number
  fieldId: number
  key: string
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
      return part.records.some((record) => record.typeId === change.typeId && record.key === change.key)
    case 'when': {
      const { fromMs, toMs } = instantsOf(part.span, nowMs)
      return (fromMs === null || change.atMs >= fromMs) && (toMs === null || change.atMs < toMs)
    }
    default:
      return assertNever(part)
  }
}
