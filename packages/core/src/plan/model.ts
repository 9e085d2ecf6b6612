/** How a field is kept: its values, or only that it changed with a keyed hash. Off is the absence of an entry. */
export type Keep = 'values' | 'fingerprint'
export type KeepOrOff = Keep | 'off'

export type ReasonRule = 'never' | 'asked' | 'required'

/** What becomes of a column that the source adds to a tracked table. */
export type NewColumnRule = 'track' | 'wait'

export interface FieldPlan {
  keep: Keep
}

export interface TypePlan {
  /** By field id. A field that is not here is not tracked. */
  fields: Readonly<Record<string, FieldPlan>>
  /** Whether a save must give a reason; never asked unless said. */
  reason?: ReasonRule
  /** They wait for a decision unless said. */
  newColumns?: NewColumnRule
}

/** What is tracked in one source. By record type id; a type that is not here is not tracked. */
export interface TrackingPlan {
  types: Readonly<Record<string, TypePlan>>
}

export const emptyPlan: TrackingPlan = { types: {} }

/** How one field is to be kept. */
export interface FieldEdit {
  typeId: number
  fieldId: number
  keep: KeepOrOff
}

/** A rule for a whole record type: whether its saves need a reason, and what becomes of columns that are added. */
export interface RuleEdit {
  typeId: number
  reason?: ReasonRule | undefined
  newColumns?: NewColumnRule | undefined
}

/** One wish of an administrator, as staged in a draft. */
export type PlanEdit = FieldEdit | RuleEdit

export function isFieldEdit(edit: PlanEdit): edit is FieldEdit {
  return 'fieldId' in edit
}

export function keepOf(plan: TrackingPlan, typeId: number, fieldId: number): KeepOrOff {
  return plan.types[typeId]?.fields[fieldId]?.keep ?? 'off'
}

export function rulesOf(plan: TrackingPlan, typeId: number): { reason: ReasonRule; newColumns: NewColumnRule } {
  const type = plan.types[typeId]
  return { reason: type?.reason ?? 'never', newColumns: type?.newColumns ?? 'wait' }
}

interface OpenType {
  fields: Map<string, FieldPlan>
  reason: ReasonRule
  newColumns: NewColumnRule
}

/** The plan with the edits applied, later edits winning. Types left without fields disappear, their rules with them. */
export function withEdits(plan: TrackingPlan, edits: readonly PlanEdit[]): TrackingPlan {
  const types = new Map<number, OpenType>()
  const open = (typeId: number): OpenType => {
    const known = types.get(typeId)
    if (known) return known
    const opened = { fields: new Map(Object.entries(plan.types[typeId]?.fields ?? {})), ...rulesOf(plan, typeId) }
    types.set(typeId, opened)
    return opened
  }
  for (const id of Object.keys(plan.types)) open(Number(id))
  for (const edit of edits) {
    const type = open(edit.typeId)
    if (!isFieldEdit(edit)) {
      type.reason = edit.reason ?? type.reason
      type.newColumns = edit.newColumns ?? type.newColumns
    } else if (edit.keep === 'off') type.fields.delete(String(edit.fieldId))
    else type.fields.set(String(edit.fieldId), { keep: edit.keep })
  }
  return {
    types: Object.fromEntries(
      [...types].filter(([, type]) => type.fields.size > 0).map(([id, type]) => [id, closed(type)]),
    ),
  }
}

/** Rules that are what they would be anyway are not written down, so that equal plans are equal. */
function closed({ fields, reason, newColumns }: OpenType): TypePlan {
  return {
    fields: Object.fromEntries(fields),
    ...(reason === 'never' ? {} : { reason }),
    ...(newColumns === 'wait' ? {} : { newColumns }),
  }
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

/** Every field that two plans keep differently, by type then field. */
export function comparePlans(from: TrackingPlan, to: TrackingPlan): PlanDifference[] {
  return numbersOf(from.types, to.types).flatMap((typeId) =>
    numbersOf(from.types[typeId]?.fields ?? {}, to.types[typeId]?.fields ?? {}).flatMap((fieldId) => {
      const [before, after] = [keepOf(from, typeId, fieldId), keepOf(to, typeId, fieldId)]
      return before === after ? [] : [{ typeId, fieldId, from: before, to: after }]
    }),
  )
}

/** The edits that make one plan of another: `withEdits(from, editsBetween(from, to))` is `to`. */
export function editsBetween(from: TrackingPlan, to: TrackingPlan): PlanEdit[] {
  const rules = numbersOf(from.types, to.types).flatMap((typeId): RuleEdit[] => {
    const [before, after] = [rulesOf(from, typeId), rulesOf(to, typeId)]
    if (!to.types[typeId]) return []
    const reason = before.reason === after.reason ? {} : { reason: after.reason }
    const newColumns = before.newColumns === after.newColumns ? {} : { newColumns: after.newColumns }
    return Object.keys({ ...reason, ...newColumns }).length > 0 ? [{ typeId, ...reason, ...newColumns }] : []
  })
  return [...comparePlans(from, to).map(({ typeId, fieldId, to: keep }) => ({ typeId, fieldId, keep })), ...rules]
}

/** Whether all, some or none of the switches below a level are on. */
export type ThreeState = 'all' | 'some' | 'none'

export function threeState(on: number, of: number): ThreeState {
  if (on === 0) return 'none'
  return on === of ? 'all' : 'some'
}
