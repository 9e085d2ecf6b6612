/** Kinds of actor, in the order they are listed everywhere. */
export const actorKinds = ['person', 'import', 'job', 'integration', 'delegate', 'unknown'] as const
export type ActorKind = (typeof actorKinds)[number]

/**
 * People as they are spoken of: of a unit of the staff list, whoever has left or joined in the last months by it, and the
 * reader. Whom that means changes, and is looked up when it is asked: {@link withMembers} puts it down as actors.
 */
export type WhoGroup =
  { group: 'unit'; unit: string } | { group: 'left' } | { group: 'joined'; months: number } | { group: 'me' }

/** Who: any of these actors, of these kinds or of these groups. */
export interface WhoPart {
  part: 'who'
  exclude: boolean
  actors: readonly number[]
  kinds: readonly ActorKind[]
  groups?: readonly WhoGroup[]
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

/** What a field held just after a change (of a deletion: before it), or holds by now: one of these values, null is nothing. */
export interface HeldTest {
  fieldId: number
  now: boolean
  values: readonly (string | null)[]
}

/**
 * Which records, by what their fields held: of those of the field's type, with their lines, those of which every test holds.
 * What is not known holds nothing.
 */
export interface HoldsPart {
  part: 'holds'
  exclude: boolean
  tests: readonly HeldTest[]
}

/**
 * Days are calendar days of `zone`, both ends included; a missing end is open. Instants are ISO 8601 in UTC to the
 * minute, the first included and the last not; their zone says how they are read. `look` begins where the reader's
 * last visit ended, so it means another spell to everyone: {@link settled} puts it down as instants.
 */
export type Span =
  | { span: 'days'; from: string | null; to: string | null; zone: string }
  | { span: 'last'; days: number; zone: string }
  | { span: 'instants'; from: string; to: string | null; zone: string }
  | { span: 'look'; zone: string }

/** When: by the moment of entry, or by the day that the record itself says it takes effect, in days only. */
export interface WhenPart {
  part: 'when'
  exclude: boolean
  span: Span
  effective: boolean
}

/**
 * At which hours (0 to 23) of which days of the week (1 is Monday), on the clock of a zone. Each list that is not empty
 * must hold.
 */
export interface ClockPart {
  part: 'clock'
  exclude: boolean
  hours: readonly number[]
  weekdays: readonly number[]
  zone: string
}

/** `restore` is a creation of a record that had been deleted before. */
export const scopeActions = ['create', 'change', 'delete', 'restore'] as const
export type ScopeAction = (typeof scopeActions)[number]

/**
 * How: by these acts, through these channels, in these runs, in the transactions that made these saves. Each list that is
 * not empty must hold.
 */
export interface HowPart {
  part: 'how'
  exclude: boolean
  actions: readonly ScopeAction[]
  channels: readonly string[]
  runs: readonly number[]
  /** Numbers of saves, each for all that its transaction made. */
  transactions?: readonly string[]
}

/**
 * One condition on the values of a change. `contains` looks at both values and takes no notice of case; `rose` and
 * `fell` hold for numbers that moved by more than `by`, a plain decimal, in their own unit or in percent of the
 * value before.
 */
export type ValueTest =
  | { test: 'from'; value: string | null }
  | { test: 'to'; value: string | null }
  | { test: 'contains'; text: string }
  | { test: 'rose' | 'fell'; by: string; percent: boolean }

/** Which values: every test holds. */
export interface ValuePart {
  part: 'value'
  exclude: boolean
  tests: readonly ValueTest[]
}

/** Whether a reason was given, and what it holds. */
export interface ReasonPart {
  part: 'reason'
  exclude: boolean
  /** Null: any reason at all. */
  contains: string | null
}

export const changeStates = ['reviewed', 'flagged', 'asked', 'answered', 'assigned', 'reverted', 'correction'] as const
/**
 * What has become of a change: looked at, flagged, asked about and waiting, answered, assigned and waiting, set back
 * by a correction, or made by one.
 */
export type ChangeState = (typeof changeStates)[number]

/** What has become of it: any of these, or told in one of these stories of what stands out, or gathered in one of these cases. */
export interface StatePart {
  part: 'state'
  exclude: boolean
  states: readonly ChangeState[]
  stories: readonly number[]
  cases?: readonly number[]
}

export type ScopePart =
  WhoPart | WhatPart | RecordPart | HoldsPart | WhenPart | ClockPart | HowPart | ValuePart | ReasonPart | StatePart
export type PartName = ScopePart['part']

/**
 * The sentence that says which changes are meant: a change is in scope when every part holds. At most one part
 * of each name. An absent part narrows nothing.
 */
export interface Scope {
  readonly who?: WhoPart
  readonly what?: WhatPart
  readonly record?: RecordPart
  readonly holds?: HoldsPart
  readonly when?: WhenPart
  readonly clock?: ClockPart
  readonly how?: HowPart
  readonly value?: ValuePart
  readonly reason?: ReasonPart
  readonly state?: StatePart
}

export const everything: Scope = {}

/** The scope with "since I last looked" put down as the instants that it means for one reader. */
export function settled(scope: Scope, lookedAt: string): Scope {
  const { when } = scope
  if (when?.span.span !== 'look') return scope
  const from = `${new Date(lookedAt).toISOString().slice(0, 16)}Z`
  return { ...scope, when: { ...when, span: { span: 'instants', from, to: null, zone: when.span.zone } } }
}

export const groupsOf = (part: WhoPart): readonly WhoGroup[] => part.groups ?? []
export const casesOf = (part: StatePart): readonly number[] => part.cases ?? []
export const transactionsOf = (part: HowPart): readonly string[] => part.transactions ?? []

/** The scope with groups of people put down as the actors that they mean for one reader at one time. */
export function withMembers(scope: Scope, members: readonly number[]): Scope {
  const { who } = scope
  if (!who || groupsOf(who).length === 0) return scope
  const { groups: _, ...rest } = who
  return { ...scope, who: { ...rest, actors: [...new Set([...who.actors, ...members])] } }
}

export function partsOf(scope: Scope): ScopePart[] {
  const { what, value, record, holds, who, how, reason, when, clock, state } = scope
  return [what, value, record, holds, who, how, reason, when, clock, state].filter((part) => part !== undefined)
}

export function withPart(scope: Scope, part: ScopePart): Scope {
  return { ...scope, [part.part]: part }
}

/** A scope narrowed to what somebody did to records of a type; where it names fields these say which. */
export function withPair(scope: Scope, { actorId, typeId }: { actorId: number; typeId: number }): Scope {
  const who = withPart(scope, { part: 'who', exclude: false, actors: [actorId], kinds: [] })
  return (scope.what?.fields.length ?? 0) > 0
    ? who
    : withPart(who, { part: 'what', exclude: false, types: [typeId], fields: [] })
}

export function withoutPart(scope: Scope, name: PartName): Scope {
  const { [name]: _, ...rest } = scope
  return rest
}

/** A part that names nobody and nothing would match nothing; editors remove it instead. */
export function isHollow(part: ScopePart): boolean {
  switch (part.part) {
    case 'who':
      return part.actors.length === 0 && part.kinds.length === 0 && groupsOf(part).length === 0
    case 'what':
      return part.types.length === 0 && part.fields.length === 0
    case 'record':
      return part.records.length === 0
    case 'holds':
      return part.tests.every(({ values }) => values.length === 0)
    case 'when':
      return part.span.span === 'days' && part.span.from === null && part.span.to === null
    case 'clock':
      return part.hours.length === 0 && part.weekdays.length === 0
    case 'how':
      return (
        part.actions.length === 0 &&
        part.channels.length === 0 &&
        part.runs.length === 0 &&
        transactionsOf(part).length === 0
      )
    case 'value':
      return part.tests.length === 0
    case 'reason':
      return part.contains === ''
    case 'state':
      return part.states.length === 0 && part.stories.length === 0 && casesOf(part).length === 0
  }
}
