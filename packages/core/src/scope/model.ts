/** Kinds of actor, in the order they are listed everywhere. */
export const actorKinds = ['person', 'import', 'job', 'integration', 'delegate', 'unknown'] as const
export type ActorKind = (typeof actorKinds)[number]

/** Who: any of these actors or of these kinds. */
export interface WhoPart {
  part: 'who'
  exclude: boolean
  actors: readonly number[]
  kinds: readonly ActorKind[]
}

/** What: any field of these record types, or any of these fields. */
export interface WhatPart {
  part: 'what'
  exclude: boolean
  types: readonly number[]
  fields: readonly number[]
}

export interface RecordRef {
  typeId: number
  /** Canonical JSON text of the key's values, e.g. `["10377"]`. */
  key: string
}

/** Which records, by key. */
export interface RecordPart {
  part: 'record'
  exclude: boolean
  /** Whether the lines of these records are meant with them. */
  lines: boolean
  records: readonly RecordRef[]
}

/** Days are calendar days of `zone`, both ends included; a missing end is open. */
export type Span =
  { span: 'days'; from: string | null; to: string | null; zone: string } | { span: 'last'; days: number; zone: string }

/** When the change was made. */
export interface WhenPart {
  part: 'when'
  exclude: boolean
  span: Span
}

export type ScopePart = WhoPart | WhatPart | RecordPart | WhenPart
export type PartName = ScopePart['part']

/**
 * The sentence that says which changes are meant: a change is in scope when every part holds. At most one part
 * of each name. An absent part narrows nothing.
 */
export interface Scope {
  readonly who?: WhoPart
  readonly what?: WhatPart
  readonly record?: RecordPart
  readonly when?: WhenPart
}

export const everything: Scope = {}

export function partsOf(scope: Scope): ScopePart[] {
  return [scope.what, scope.record, scope.who, scope.when].filter((part) => part !== undefined)
}

export function withPart(scope: Scope, part: ScopePart): Scope {
  return { ...scope, [part.part]: part }
}

export function withoutPart(scope: Scope, name: PartName): Scope {
  const { [name]: _, ...rest } = scope
  return rest
}

/** A part that names nobody and nothing would match nothing; editors remove it instead. */
export function isHollow(part: ScopePart): boolean {
  switch (part.part) {
    case 'who':
      return part.actors.length === 0 && part.kinds.length === 0
    case 'what':
      return part.types.length === 0 && part.fields.length === 0
    case 'record':
      return part.records.length === 0
    case 'when':
      return part.span.span === 'days' && part.span.from === null && part.span.to === null
  }
}
