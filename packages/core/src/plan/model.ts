import { sameGuard, type Guard } from '../guard/rule.ts'

/** How a field is kept: its values, or only that it changed with a keyed hash. Off is the absence of an entry. */
export type Keep = 'values' | 'fingerprint'
export type KeepOrOff = Keep | 'off'

export type ReasonRule = 'never' | 'asked' | 'required'

/** What becomes of a column that the source adds to a tracked table. */
export type NewColumnRule = 'track' | 'wait'

/** What becomes of a save when capturing itself fails: it is refused, or let through and told of. */
export type FailureRule = 'refuse' | 'pass'

/** Whether what records hold when their fields begin to be tracked is taken in as found. */
export type FoundRule = 'take' | 'leave'

/** Keeps a field tracked until the end of a day (`YYYY-MM-DD`), or for good. */
export interface Lock {
  until: string | null
}

export interface FieldPlan {
  keep: Keep
  /** Values are shown only to those who reveal them, and each reveal is recorded. */
  masked?: true
  /** Setting it back takes a second person. */
  sensitive?: true
  /** Whether a save that changes it must give a reason; the type's rule holds unless this one is stricter. */
  reason?: ReasonRule
  /** Fields of the same type from which its value follows, ascending. */
  derivedFrom?: readonly number[]
  lock?: Lock
}

export interface TypePlan {
  /** By field id. A field that is not here is not tracked. */
  fields: Readonly<Record<string, FieldPlan>>
  /** Whether a save must give a reason; never asked unless said. */
  reason?: ReasonRule
  /** They wait for a decision unless said. */
  newColumns?: NewColumnRule
  /** A save that cannot be captured is refused unless said. */
  onFailure?: FailureRule
  /** It is taken in unless said. */
  asFound?: FoundRule
  /** What is refused in the source, by the number of the guard. */
  guards?: Readonly<Record<string, Guard>>
}

/** What is tracked in one source. By record type id; a type that is not here is not tracked. */
export interface TrackingPlan {
  types: Readonly<Record<string, TypePlan>>
  /** A draft is put in force by somebody other than who proposed it. */
  secondPerson?: true
  /** A correction that writes more records than this is applied by somebody other than who drafted it. */
  correctionsAbove?: number
}

export const emptyPlan: TrackingPlan = { types: {} }

/** What is to become of one field; what is not named stays as it is. */
export interface FieldEdit {
  typeId: number
  fieldId: number
  keep?: KeepOrOff | undefined
  masked?: boolean | undefined
  sensitive?: boolean | undefined
  reason?: ReasonRule | undefined
  derivedFrom?: readonly number[] | undefined
  /** Null takes a lock off. */
  lock?: Lock | null | undefined
}

/** A rule for a whole record type: whether its saves need a reason, and what becomes of columns that are added. */
export interface RuleEdit {
  typeId: number
  reason?: ReasonRule | undefined
  newColumns?: NewColumnRule | undefined
  onFailure?: FailureRule | undefined
  asFound?: FoundRule | undefined
}

/** A guard as it is to be; null takes it away. */
export interface GuardEdit {
  typeId: number
  guardId: number
  guard: Guard | null
}

/** A rule of the whole plan. */
export interface PlanRuleEdit {
  secondPerson: boolean
  correctionsAbove?: number | null | undefined
}

/** One wish of an administrator, as staged in a draft. */
export type PlanEdit = FieldEdit | RuleEdit | GuardEdit | PlanRuleEdit

export function isFieldEdit(edit: PlanEdit): edit is FieldEdit {
  return 'fieldId' in edit
}

export function isPlanRuleEdit(edit: PlanEdit): edit is PlanRuleEdit {
  return 'secondPerson' in edit
}

export function isGuardEdit(edit: PlanEdit): edit is GuardEdit {
  return 'guardId' in edit
}

export function isRuleEdit(edit: PlanEdit): edit is RuleEdit {
  return !isFieldEdit(edit) && !isGuardEdit(edit) && !isPlanRuleEdit(edit)
}

export function fieldPlan(plan: TrackingPlan, typeId: number, fieldId: number): FieldPlan | undefined {
  return plan.types[typeId]?.fields[fieldId]
}

export function keepOf(plan: TrackingPlan, typeId: number, fieldId: number): KeepOrOff {
  return fieldPlan(plan, typeId, fieldId)?.keep ?? 'off'
}

/** The rules of a record type as a whole. */
export interface TypeRules {
  reason: ReasonRule
  newColumns: NewColumnRule
  onFailure: FailureRule
  asFound: FoundRule
}

export function rulesOf(plan: TrackingPlan, typeId: number): TypeRules {
  const { reason = 'never', newColumns = 'wait', onFailure = 'refuse', asFound = 'take' } = plan.types[typeId] ?? {}
  return { reason, newColumns, onFailure, asFound }
}

const strictness: Readonly<Record<ReasonRule, number>> = { never: 0, asked: 1, required: 2 }

export function stricter(a: ReasonRule, b: ReasonRule): ReasonRule {
  return strictness[a] >= strictness[b] ? a : b
}

/** The rule for a field, the type's included. */
export function reasonOf(plan: TrackingPlan, typeId: number, fieldId: number): ReasonRule {
  return stricter(rulesOf(plan, typeId).reason, fieldPlan(plan, typeId, fieldId)?.reason ?? 'never')
}

interface OpenType extends TypeRules {
  fields: Map<string, FieldPlan>
  guards: Map<string, Guard>
}

/** The guards of a type, by their numbers. */
export function guardsOf(plan: TrackingPlan, typeId: number): ReadonlyMap<number, Guard> {
  return new Map(Object.entries(plan.types[typeId]?.guards ?? {}).map(([id, guard]) => [Number(id), guard]))
}

/** The plan with the edits applied, later edits winning. Types left without fields disappear, their rules with them. */
export function withEdits(plan: TrackingPlan, edits: readonly PlanEdit[]): TrackingPlan {
  const types = new Map<number, OpenType>()
  let secondPerson = plan.secondPerson ?? false
  let correctionsAbove = plan.correctionsAbove ?? null
  const open = (typeId: number): OpenType => {
    const known = types.get(typeId)
    if (known) return known
    const type = plan.types[typeId]
    const opened = {
      fields: new Map(Object.entries(type?.fields ?? {})),
      guards: new Map(Object.entries(type?.guards ?? {})),
      ...rulesOf(plan, typeId),
    }
    types.set(typeId, opened)
    return opened
  }
  for (const id of Object.keys(plan.types)) open(Number(id))
  for (const edit of edits) {
    if (isPlanRuleEdit(edit)) {
      secondPerson = edit.secondPerson
      if (edit.correctionsAbove !== undefined) correctionsAbove = edit.correctionsAbove
      continue
    }
    const type = open(edit.typeId)
    if (isGuardEdit(edit)) {
      if (edit.guard) type.guards.set(String(edit.guardId), edit.guard)
      else type.guards.delete(String(edit.guardId))
      continue
    }
    if (!isFieldEdit(edit)) {
      type.reason = edit.reason ?? type.reason
      type.newColumns = edit.newColumns ?? type.newColumns
      type.onFailure = edit.onFailure ?? type.onFailure
      type.asFound = edit.asFound ?? type.asFound
      continue
    }
    const edited = withFieldEdit(type.fields.get(String(edit.fieldId)), edit)
    if (edited) type.fields.set(String(edit.fieldId), edited)
    else type.fields.delete(String(edit.fieldId))
  }
  const kept = [...types].filter(([, type]) => type.fields.size > 0)
  return {
    types: Object.fromEntries(kept.map(([id, type]) => [id, closed(type)])),
    ...(secondPerson ? { secondPerson } : {}),
    ...(correctionsAbove === null ? {} : { correctionsAbove }),
  }
}

/** What is said of a field that is not tracked is forgotten: there is nothing it could be true of. */
function withFieldEdit(before: FieldPlan | undefined, edit: FieldEdit): FieldPlan | undefined {
  const keep = edit.keep ?? before?.keep ?? 'off'
  if (keep === 'off') return undefined
  const said = <T>(now: T | undefined, was: T | undefined) => (now === undefined ? was : now)
  const masked = said(edit.masked, before?.masked)
  const sensitive = said(edit.sensitive, before?.sensitive)
  const reason = said(edit.reason, before?.reason)
  const derivedFrom = said(edit.derivedFrom, before?.derivedFrom)
  const lock = said(edit.lock, before?.lock)
  return {
    keep,
    ...(masked ? { masked } : {}),
    ...(sensitive ? { sensitive } : {}),
    ...(reason && reason !== 'never' ? { reason } : {}),
    ...(derivedFrom?.length ? { derivedFrom: [...new Set(derivedFrom)].sort((a, b) => a - b) } : {}),
    ...(lock ? { lock: { until: lock.until } } : {}),
  }
}

/** Rules that are what they would be anyway are not written down, so that equal plans are equal. */
function closed({ fields, guards, reason, newColumns, onFailure, asFound }: OpenType): TypePlan {
  return {
    fields: Object.fromEntries(fields),
    ...(reason === 'never' ? {} : { reason }),
    ...(newColumns === 'wait' ? {} : { newColumns }),
    ...(onFailure === 'refuse' ? {} : { onFailure }),
    ...(asFound === 'take' ? {} : { asFound }),
    ...(guards.size > 0 ? { guards: Object.fromEntries(guards) } : {}),
  }
}

/** One guard that two plans have differently; null where one has none of its number. */
export interface GuardDifference {
  typeId: number
  guardId: number
  from: Guard | null
  to: Guard | null
}

/** Every guard that two plans have differently, of types that are tracked in the second, by type then number. */
export function guardDifferences(from: TrackingPlan, to: TrackingPlan): GuardDifference[] {
  return numbersOf(from.types, to.types).flatMap((typeId) => {
    if (!to.types[typeId]) return []
    const [before, after] = [from.types[typeId]?.guards ?? {}, to.types[typeId].guards ?? {}]
    return numbersOf(before, after).flatMap((guardId) =>
      sameGuard(before[guardId], after[guardId])
        ? []
        : [{ typeId, guardId, from: before[guardId] ?? null, to: after[guardId] ?? null }],
    )
  })
}

/** One field that two plans treat differently; null where it is not tracked. */
export interface FieldDifference {
  typeId: number
  fieldId: number
  from: FieldPlan | null
  to: FieldPlan | null
}

/** One field whose keeping differs between two plans. */
export interface PlanDifference {
  typeId: number
  fieldId: number
  from: KeepOrOff
  to: KeepOrOff
}

const numbersOf = (a: object, b: object) =>
  [...new Set([...Object.keys(a), ...Object.keys(b)])].map(Number).sort((x, y) => x - y)

/** Every field that two plans treat differently, by type then field. */
export function fieldDifferences(from: TrackingPlan, to: TrackingPlan): FieldDifference[] {
  return numbersOf(from.types, to.types).flatMap((typeId) =>
    numbersOf(from.types[typeId]?.fields ?? {}, to.types[typeId]?.fields ?? {}).flatMap((fieldId) => {
      const before = fieldPlan(from, typeId, fieldId) ?? null
      const after = fieldPlan(to, typeId, fieldId) ?? null
      const same = Object.keys(fieldEditBetween(before, after)).length === 0
      return same ? [] : [{ typeId, fieldId, from: before, to: after }]
    }),
  )
}

/** Every field that two plans keep differently, by type then field. */
export function comparePlans(from: TrackingPlan, to: TrackingPlan): PlanDifference[] {
  return fieldDifferences(from, to).flatMap(({ typeId, fieldId, from: before, to: after }) => {
    const was: KeepOrOff = before?.keep ?? 'off'
    const is: KeepOrOff = after?.keep ?? 'off'
    return was === is ? [] : [{ typeId, fieldId, from: was, to: is }]
  })
}

type FieldWish = Omit<FieldEdit, 'typeId' | 'fieldId'>

function fieldEditBetween(from: FieldPlan | null, to: FieldPlan | null): FieldWish {
  if (to === null) return from === null ? {} : { keep: 'off' }
  const wish: FieldWish = {}
  if (from?.keep !== to.keep) wish.keep = to.keep
  if ((from?.masked ?? false) !== (to.masked ?? false)) wish.masked = to.masked ?? false
  if ((from?.sensitive ?? false) !== (to.sensitive ?? false)) wish.sensitive = to.sensitive ?? false
  if ((from?.reason ?? 'never') !== (to.reason ?? 'never')) wish.reason = to.reason ?? 'never'
  if ((from?.derivedFrom ?? []).join() !== (to.derivedFrom ?? []).join()) wish.derivedFrom = to.derivedFrom ?? []
  const locks = [from?.lock, to.lock].map((lock) => (lock ? (lock.until ?? 'for good') : null))
  if (locks[0] !== locks[1]) wish.lock = to.lock ?? null
  return wish
}

/** The edits that make one plan of another: `withEdits(from, editsBetween(from, to))` is `to`. */
export function editsBetween(from: TrackingPlan, to: TrackingPlan): PlanEdit[] {
  const fields = fieldDifferences(from, to).map(({ typeId, fieldId, from: before, to: after }) => ({
    typeId,
    fieldId,
    ...fieldEditBetween(before, after),
  }))
  const rules = numbersOf(from.types, to.types).flatMap((typeId): RuleEdit[] => {
    const [before, after] = [rulesOf(from, typeId), rulesOf(to, typeId)]
    if (!to.types[typeId]) return []
    const reason = before.reason === after.reason ? {} : { reason: after.reason }
    const newColumns = before.newColumns === after.newColumns ? {} : { newColumns: after.newColumns }
    const onFailure = before.onFailure === after.onFailure ? {} : { onFailure: after.onFailure }
    const asFound = before.asFound === after.asFound ? {} : { asFound: after.asFound }
    const wish = { ...reason, ...newColumns, ...onFailure, ...asFound }
    return Object.keys(wish).length > 0 ? [{ typeId, ...wish }] : []
  })
  const guards = guardDifferences(from, to).map(({ typeId, guardId, to: guard }) => ({ typeId, guardId, guard }))
  const [above, second] = [to.correctionsAbove ?? null, to.secondPerson ?? false]
  const moved = (from.correctionsAbove ?? null) !== above
  const plan: PlanRuleEdit[] =
    (from.secondPerson ?? false) === second && !moved
      ? []
      : [{ secondPerson: second, ...(moved ? { correctionsAbove: above } : {}) }]
  return [...fields, ...rules, ...guards, ...plan]
}

/** Whether all, some or none of the switches below a level are on. */
export type ThreeState = 'all' | 'some' | 'none'

export function threeState(on: number, of: number): ThreeState {
  if (on === 0) return 'none'
  return on === of ? 'all' : 'some'
}
