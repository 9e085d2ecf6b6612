import type { Guard } from '../guard/rule.ts'
import {
  rulesOf,
  type FieldPlan,
  type Keep,
  type Lock,
  type ReasonRule,
  type TrackingPlan,
  type TypePlan,
  type TypeRules,
} from './model.ts'

/** A tracking plan by the names the source has, so that it can leave Spoor and come back. */
export interface PlanFile {
  format: 'spoor-plan'
  version: 1
  source: string
  /** The version it was written from; null for a plan made by hand. */
  planVersion: number | null
  secondPerson: boolean
  correctionsAbove: number | null
  types: PlanFileType[]
}

export interface PlanFileType extends TypeRules {
  schema: string
  table: string
  fields: PlanFileField[]
  guards: PlanFileGuard[]
}

/** A guard whose fields are named by their columns. */
export type PlanFileGuard = Omit<Guard, 'fieldId' | 'held'> & {
  number: number
  column: string | null
  held: (Omit<NonNullable<Guard['held']>, 'fieldId'> & { column: string }) | null
}

export interface PlanFileField {
  column: string
  keep: Keep
  masked: boolean
  sensitive: boolean
  reason: ReasonRule
  derivedFrom: string[]
  lock: Lock | null
}

/** The source's tables and columns by Spoor's numbers. */
export interface PlanRegister {
  types: readonly { id: number; schema: string; table: string; fields: readonly { id: number; column: string }[] }[]
}

export function planToFile(
  plan: TrackingPlan,
  register: PlanRegister,
  source: string,
  planVersion: number | null,
): PlanFile {
  const types = register.types.flatMap((type): PlanFileType[] => {
    const planned = plan.types[type.id]
    if (!planned) return []
    const columnOf = new Map(type.fields.map((field) => [field.id, field.column]))
    const fields = type.fields.flatMap(({ id, column }): PlanFileField[] => {
      const field = planned.fields[id]
      return field ? [fieldToFile(column, field, columnOf)] : []
    })
    const guards = Object.entries(planned.guards ?? {}).map(([id, guard]) => guardToFile(Number(id), guard, columnOf))
    return [{ schema: type.schema, table: type.table, ...rulesOf(plan, type.id), fields, guards }]
  })
  const { secondPerson = false, correctionsAbove = null } = plan
  return { format: 'spoor-plan', version: 1, source, planVersion, secondPerson, correctionsAbove, types }
}

function guardToFile(number: number, guard: Guard, columnOf: ReadonlyMap<number, string>): PlanFileGuard {
  const { fieldId, held, ...rest } = guard
  const column = (id: number) => columnOf.get(id) ?? ''
  return {
    number,
    ...rest,
    column: fieldId === null ? null : column(fieldId),
    held: held && { column: column(held.fieldId), values: held.values, other: held.other },
  }
}

function fieldToFile(column: string, field: FieldPlan, columnOf: ReadonlyMap<number, string>): PlanFileField {
  return {
    column,
    keep: field.keep,
    masked: field.masked ?? false,
    sensitive: field.sensitive ?? false,
    reason: field.reason ?? 'never',
    derivedFrom: (field.derivedFrom ?? []).flatMap((id) => columnOf.get(id) ?? []),
    lock: field.lock ?? null,
  }
}

/** Something in a plan file that the source does not have. */
export interface UnknownName {
  schema: string
  table: string
  /** Null when the whole table is unknown. */
  column: string | null
}

/** The plan a file means for this source, and the names it has that the source does not. */
export function planFromFile(file: PlanFile, register: PlanRegister): { plan: TrackingPlan; unknown: UnknownName[] } {
  const unknown: UnknownName[] = []
  const types: Record<string, TypePlan> = {}
  for (const { schema, table, reason, newColumns, onFailure, asFound, fields, guards } of file.types) {
    const type = register.types.find((one) => one.schema === schema && one.table === table)
    if (!type) {
      unknown.push({ schema, table, column: null })
      continue
    }
    const idOf = new Map(type.fields.map((field) => [field.column, field.id]))
    const idFor = (column: string): number[] => {
      const id = idOf.get(column)
      if (id === undefined) unknown.push({ schema, table, column })
      return id === undefined ? [] : [id]
    }
    const planned = fields.flatMap((field) =>
      idFor(field.column).map((id) => [id, fieldFromFile(field, field.derivedFrom.flatMap(idFor))] as const),
    )
    if (planned.length === 0) continue
    const guarded = guards.flatMap((guard) => guardFromFile(guard, idFor))
    types[type.id] = {
      fields: Object.fromEntries(planned),
      ...(reason === 'never' ? {} : { reason }),
      ...(newColumns === 'wait' ? {} : { newColumns }),
      ...(onFailure === 'refuse' ? {} : { onFailure }),
      ...(asFound === 'take' ? {} : { asFound }),
      ...(guarded.length > 0 ? { guards: Object.fromEntries(guarded) } : {}),
    }
  }
  const above = file.correctionsAbove === null ? {} : { correctionsAbove: file.correctionsAbove }
  return { plan: { types, ...(file.secondPerson ? { secondPerson: true } : {}), ...above }, unknown }
}

/** None where the source has not all that it asks of. */
function guardFromFile(
  { number, column, held, ...rest }: PlanFileGuard,
  idFor: (column: string) => number[],
): [string, Guard][] {
  const [fieldId = null] = column === null ? [] : idFor(column)
  const [heldId = null] = held === null ? [] : idFor(held.column)
  if ((column !== null && fieldId === null) || (held !== null && heldId === null)) return []
  const asked = held && { fieldId: heldId!, values: held.values, other: held.other }
  return [[String(number), { ...rest, fieldId, held: asked }]]
}

function fieldFromFile(field: PlanFileField, derivedFrom: number[]): FieldPlan {
  return {
    keep: field.keep,
    ...(field.masked ? { masked: true } : {}),
    ...(field.sensitive ? { sensitive: true } : {}),
    ...(field.reason === 'never' ? {} : { reason: field.reason }),
    ...(derivedFrom.length > 0 ? { derivedFrom: derivedFrom.sort((a, b) => a - b) } : {}),
    ...(field.lock ? { lock: { until: field.lock.until } } : {}),
  }
}
