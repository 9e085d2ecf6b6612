import {
  actorKinds,
  groupsOf,
  withPart,
  type ActorKind,
  type HeldTest,
  type HowPart,
  type PartName,
  type Scope,
  type Span,
  type WhatPart,
  type WhoPart,
} from '../scope/model.ts'
import { instantsOf } from '../scope/span.ts'
import { canonicalKey } from '../scope/url.ts'
import { startOfDay, addDays } from '../time/zone.ts'
import { lastDayOf } from './pivot.ts'
import { heldFieldOf, type Dimension, type FixedDimension } from './work.ts'

/** The part of a scope in which each dimension is said. */
const parts: Readonly<Record<FixedDimension, PartName>> = {
  who: 'who',
  kind: 'who',
  unit: 'who',
  area: 'what',
  type: 'what',
  field: 'what',
  record: 'record',
  before: 'value',
  after: 'value',
  channel: 'how',
  run: 'how',
  reason: 'reason',
  hour: 'clock',
  weekday: 'clock',
  day: 'when',
  week: 'when',
  month: 'when',
  quarter: 'when',
}

export const partOfDimension = (dimension: Dimension): PartName => parts[dimension as FixedDimension] ?? 'holds'

/** What has to be known of names so that a member of a dimension can be said in a scope. */
export interface CellWorld {
  types: readonly { id: number; area: string }[]
  fields: readonly { id: number; typeId: number }[]
  actors: readonly { id: number; kind: ActorKind; unit: string | null }[]
  zone: string
  nowMs: number
}

/** More actors than these are not named in a sentence. */
const mostActors = 1000
/** More values are not read in one. */
const mostValues = 50
/** So many characters of a value are a member of a pivot; what is as long may be the beginning of several. */
export const longestMember = 500

/**
 * The scope of those changes of a scope that stand in a row or column of its pivot, so that a figure leads to its saves.
 * Null where one sentence cannot say both: a part says one thing, and "of the unit Income" and "of these five people" are
 * two.
 * @param others the other members where these are all that there are: what is none of them is said by naming them
 */
export function scopeOfMember(
  scope: Scope,
  dimension: Dimension,
  value: string | null,
  world: CellWorld,
  others?: readonly (string | null)[],
): Scope | null {
  const fieldId = heldFieldOf(dimension)
  if (fieldId !== null) return ofHeld(scope, fieldId, value, others)
  switch (dimension as FixedDimension) {
    case 'who':
      return withPart(scope, { part: 'who', exclude: false, actors: [Number(value)], kinds: [] })
    case 'kind':
      return ofKind(
        scope,
        actorKinds.find((kind) => kind === value)!,
        world,
      )
    case 'unit':
      if (scope.who || value === null) return ofActors(scope, (actor) => actor.unit === value, world)
      return withPart(scope, {
        part: 'who',
        exclude: false,
        actors: [],
        kinds: [],
        groups: [{ group: 'unit', unit: value }],
      })
    case 'area':
      return ofTypes(
        scope,
        world.types.filter(({ area }) => area === value).map(({ id }) => id),
        world,
      )
    case 'type':
      return ofTypes(scope, [Number(value)], world)
    case 'field':
      return withPart(scope, { part: 'what', exclude: false, types: [], fields: [Number(value)] })
    case 'record': {
      const [, typeId, text] = /^t(\d+):(.*)$/s.exec(value ?? '') ?? []
      const key = canonicalKey(text ?? '')
      if (key === null) return null
      return withPart(scope, {
        part: 'record',
        exclude: false,
        lines: false,
        records: [{ typeId: Number(typeId), key }],
      })
    }
    case 'before':
    case 'after': {
      if (scope.value?.exclude || [...(value ?? '')].length >= longestMember) return null
      const test = { test: dimension === 'before' ? ('from' as const) : ('to' as const), value }
      return withPart(scope, { part: 'value', exclude: false, tests: [...(scope.value?.tests ?? []), test] })
    }
    case 'channel':
      return value === null ? null : howOf(scope, { channels: [value] })
    case 'run':
      return value === null ? null : howOf(scope, { runs: [Number(value)] })
    case 'reason': {
      const given = value === 'yes'
      const said = scope.reason
      if (!said) return withPart(scope, { part: 'reason', exclude: !given, contains: null })
      if (said.contains === null || !said.exclude) return said.exclude === given ? null : scope
      // Without a word in the reason: with another reason, or with none.
      return given ? null : withPart(scope, { part: 'reason', exclude: true, contains: null })
    }
    case 'hour':
      return ofClock(scope, { hours: [Number(value)] }, world.zone)
    case 'weekday':
      return ofClock(scope, { weekdays: [Number(value)] }, world.zone)
    case 'day':
    case 'week':
    case 'month':
    case 'quarter':
      return value === null ? null : ofDays(scope, value, lastDayOf(dimension as 'day', value), world)
  }
}

function ofHeld(
  scope: Scope,
  fieldId: number,
  member: string | null,
  others: readonly (string | null)[] | undefined,
): Scope | null {
  const { holds } = scope
  if (holds?.exclude) return null
  if (member === null) {
    // What is not known cannot be asked for, but it is whatever is none of the others.
    if (holds || !others || others.length === 0 || others.length > mostValues) return null
    const values = others.flatMap((one) => (one === null ? [] : (JSON.parse(one) as [string | null])))
    return withPart(scope, { part: 'holds', exclude: true, tests: [{ fieldId, now: false, values }] })
  }
  const [value = null] = JSON.parse(member) as [string | null]
  const isIt = (test: HeldTest) => test.fieldId === fieldId && !test.now
  const tests = holds?.tests ?? []
  const said = tests.find(isIt)
  // It is one of those that are asked for already, or none of the changes are meant.
  if (said && !said.values.includes(value)) return null
  const one: HeldTest = { fieldId, now: false, values: [value] }
  return withPart(scope, {
    part: 'holds',
    exclude: false,
    tests: said ? tests.map((test) => (test === said ? one : test)) : [...tests, one],
  })
}

function ofKind(scope: Scope, kind: ActorKind, world: CellWorld): Scope | null {
  const { who } = scope
  const whole: WhoPart = { part: 'who', exclude: false, actors: [], kinds: [kind] }
  if (!who) return withPart(scope, whole)
  if (who.kinds.includes(kind)) return who.exclude ? null : withPart(scope, whole)
  return ofActors(scope, (actor) => actor.kind === kind, world)
}

/** Actors by their names, of those whom the scope speaks of; null for nobody, or too many. */
function ofActors(
  scope: Scope,
  isMeant: (actor: CellWorld['actors'][number]) => boolean,
  { actors }: CellWorld,
): Scope | null {
  const { who } = scope
  const units = new Set<string>()
  for (const group of who ? groupsOf(who) : []) {
    // Who is new, or has left, is known where it is looked for.
    if (group.group !== 'unit') return null
    units.add(group.unit)
  }
  const isIn = ({ id, kind, unit }: CellWorld['actors'][number]) =>
    !who || (who.actors.includes(id) || who.kinds.includes(kind) || (unit !== null && units.has(unit))) !== who.exclude
  const left = actors.filter((actor) => isMeant(actor) && isIn(actor)).map(({ id }) => id)
  if (left.length === 0 || left.length > mostActors) return null
  return withPart(scope, { part: 'who', exclude: false, actors: left, kinds: [] })
}

function ofTypes(scope: Scope, types: readonly number[], { fields }: CellWorld): Scope | null {
  const { what } = scope
  const put = (part: Pick<WhatPart, 'types' | 'fields'>) =>
    part.types.length + part.fields.length === 0 ? null : withPart(scope, { part: 'what', exclude: false, ...part })
  if (!what) return put({ types, fields: [] })
  const own = fields.filter(({ typeId }) => types.includes(typeId))
  const named = own.filter(({ id }) => what.fields.includes(id))
  if (!what.exclude) {
    const whole = types.filter((id) => what.types.includes(id))
    return put({
      types: whole,
      fields: named.filter(({ typeId }) => !whole.includes(typeId)).map(({ id }) => id),
    })
  }
  const kept = types.filter((id) => !what.types.includes(id))
  const whole = kept.filter((id) => !named.some(({ typeId }) => typeId === id))
  return put({
    types: whole,
    fields: own
      .filter(({ id, typeId }) => kept.includes(typeId) && !whole.includes(typeId) && !what.fields.includes(id))
      .map(({ id }) => id),
  })
}

function howOf(scope: Scope, one: Partial<Pick<HowPart, 'channels' | 'runs'>>): Scope | null {
  if (scope.how?.exclude) return null
  return withPart(scope, { part: 'how', exclude: false, actions: [], channels: [], runs: [], ...scope.how, ...one })
}

function ofClock(scope: Scope, one: { hours?: number[]; weekdays?: number[] }, zone: string): Scope | null {
  const { clock } = scope
  if (clock && (clock.exclude || clock.zone !== zone)) return null
  return withPart(scope, { part: 'clock', exclude: false, hours: [], weekdays: [], zone, ...clock, ...one })
}

/** A spell of days within the time that a scope speaks of already. */
function ofDays(scope: Scope, from: string, to: string, { zone, nowMs }: CellWorld): Scope | null {
  const { when } = scope
  const put = (span: Span) => withPart(scope, { part: 'when', exclude: false, span, effective: false })
  const days = { span: 'days' as const, from, to, zone }
  if (!when) return put(days)
  if (when.exclude || when.effective || when.span.span === 'look') return null
  const own = instantsOf(when.span, nowMs)
  const [fromMs, toMs] = [startOfDay(from, zone), startOfDay(addDays(to, 1), zone)]
  const begins = Math.max(fromMs, own.fromMs ?? -Infinity)
  const ends = Math.min(toMs, own.toMs ?? Infinity)
  if (begins >= ends) return null
  if (begins === fromMs && ends === toMs) return put(days)
  const minute = (ms: number) => `${new Date(ms).toISOString().slice(0, 16)}Z`
  return put({ span: 'instants', from: minute(begins), to: minute(ends), zone })
}
