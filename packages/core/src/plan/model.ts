/** How a field is kept: its values, or only that it changed with a keyed hash. Off is the absence of an entry. */
export type Keep = 'values' | 'fingerprint'
export type KeepOrOff = Keep | 'off'

export type ReasonRule = 'never' | 'asked' | 'required'

export interface FieldPlan {
  keep: Keep
}

export interface TypePlan {
  /** By field id. A field that is not here is not tracked. */
  fields: Readonly<Record<string, FieldPlan>>
}

/** What is tracked in one source. By record type id; a type that is not here is not tracked. */
export interface TrackingPlan {
  types: Readonly<Record<string, TypePlan>>
}

export const emptyPlan: TrackingPlan = { types: {} }

/** One wish of an administrator, as staged in a draft. */
export interface PlanEdit {
  typeId: number
  fieldId: number
  keep: KeepOrOff
}

export function keepOf(plan: TrackingPlan, typeId: number, fieldId: number): KeepOrOff {
  return plan.types[typeId]?.fields[fieldId]?.keep ?? 'off'
}

/** The plan with the edits applied, later edits winning. Types left without fields disappear. */
export function withEdits(plan: TrackingPlan, edits: readonly PlanEdit[]): TrackingPlan {
  const types = new Map(Object.entries(plan.types).map(([id, type]) => [id, new Map(Object.entries(type.fields))]))
  for (const { typeId, fieldId, keep } of edits) {
    const fields = types.get(String(typeId)) ?? new Map<string, FieldPlan>()
    if (keep === 'off') fields.delete(String(fieldId))
    else fields.set(String(fieldId), { ...fields.get(String(fieldId)), keep })
    types.set(String(typeId), fields)
  }
  return {
    types: Object.fromEntries(
      [...types]
        .filter(([, fields]) => fields.size > 0)
        .map(([id, fields]) => [id, { fields: Object.fromEntries(fields) }]),
    ),
  }
}

/** One field whose keeping differs between two plans. */
export interface PlanDifference {
  typeId: number
  fieldId: number
  from: KeepOrOff
  to: KeepOrOff
}

/** Every difference between two plans, by type then field. `withEdits(from, differences)` gives `to`. */
export function comparePlans(from: TrackingPlan, to: TrackingPlan): PlanDifference[] {
  const differences: PlanDifference[] = []
  const typeIds = new Set([...Object.keys(from.types), ...Object.keys(to.types)])
  for (const type of [...typeIds].map(Number).sort((a, b) => a - b)) {
    const fieldIds = new Set([
      ...Object.keys(from.types[type]?.fields ?? {}),
      ...Object.keys(to.types[type]?.fields ?? {}),
    ])
    for (const field of [...fieldIds].map(Number).sort((a, b) => a - b)) {
      const before = keepOf(from, type, field)
      const after = keepOf(to, type, field)
      if (before !== after) differences.push({ typeId: type, fieldId: field, from: before, to: after })
    }
  }
  return differences
}

/** Whether all, some or none of the switches below a level are on. */
export type ThreeState = 'all' | 'some' | 'none'

export function threeState(on: number, of: number): ThreeState {
  if (on === 0) return 'none'
  return on === of ? 'all' : 'some'
}
