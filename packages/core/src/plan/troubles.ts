import { assertNever } from '../words/assert-never.ts'
import { listed } from '../words/list.ts'
import { fieldsOfGuard, type Guard } from '../guard/rule.ts'
import { dateText } from '../scope/sentence.ts'
import {
  fieldPlan,
  isFieldEdit,
  isGuardEdit,
  type FieldEdit,
  type FieldPlan,
  type Lock,
  type PlanEdit,
  type TrackingPlan,
  type TypePlan,
} from './model.ts'

/** Why a plan cannot be what somebody asks for. Nothing of the request is staged when there is one. */
export type PlanTrouble =
  | { trouble: 'locked'; typeId: number; fieldId: number; until: string | null }
  | { trouble: 'lock-in-the-past'; typeId: number; fieldId: number; until: string }
  | { trouble: 'says-of-untracked'; typeId: number; fieldId: number }
  | { trouble: 'masks-a-fingerprint'; typeId: number; fieldId: number }
  | { trouble: 'derived-from-untracked'; typeId: number; fieldId: number; missing: readonly number[] }
  | { trouble: 'derived-in-a-circle'; typeId: number; fieldId: number }
  | { trouble: 'guard-asks-untracked'; typeId: number; fieldId: number; guard: string }
  | { trouble: 'guard-asks-fingerprint'; typeId: number; fieldId: number; guard: string }
  | { trouble: 'guards-untracked'; typeId: number; guard: string }
  | { trouble: 'guards-what-passes'; typeId: number; guard: string }

/** Whether a lock still holds on a day, `YYYY-MM-DD`. It holds through its last day. */
export function lockHolds(lock: Lock | undefined, today: string): boolean {
  return lock !== undefined && (lock.until === null || lock.until >= today)
}

/** What a person has to type to put this lock on, so that it is not put on by a slip. */
export function lockWords({ until }: Lock): string {
  return until === null ? 'keep for good' : `keep until ${dateText(until)}`
}

/**
 * Everything that keeps `to` from following `from` by these edits, on a day of the administrator's. The edits are
 * needed beside their outcome, since what they say of a field that is not tracked leaves no trace in a plan.
 */
export function planTroubles(
  from: TrackingPlan,
  to: TrackingPlan,
  edits: readonly PlanEdit[],
  today: string,
): PlanTrouble[] {
  return [
    ...Object.entries(from.types).flatMap(([typeId, type]) => lockTroubles(Number(typeId), type, to, today)),
    ...edits.filter(isFieldEdit).flatMap((edit) => editTroubles(edit, to, today)),
    ...edits
      .filter(isGuardEdit)
      .flatMap(({ typeId, guard }): PlanTrouble[] =>
        guard && !to.types[typeId] ? [{ trouble: 'guards-untracked', typeId, guard: guard.name }] : [],
      ),
    ...Object.entries(to.types).flatMap(([typeId, type]) => [
      ...typeTroubles(Number(typeId), type),
      ...Object.values(type.guards ?? {}).flatMap((guard) => guardTroubles(Number(typeId), to, guard)),
    ]),
  ]
}

function lockTroubles(typeId: number, type: TypePlan, to: TrackingPlan, today: string): PlanTrouble[] {
  return Object.entries(type.fields).flatMap(([id, before]): PlanTrouble[] => {
    if (!lockHolds(before.lock, today)) return []
    return weaker(before, fieldPlan(to, typeId, Number(id)))
      ? [{ trouble: 'locked', typeId, fieldId: Number(id), until: before.lock!.until }]
      : []
  })
}

function weaker(before: FieldPlan, after: FieldPlan | undefined): boolean {
  if (!after || (before.keep === 'values' && after.keep === 'fingerprint')) return true
  if (!after.lock) return true
  if (after.lock.until === null) return false
  return before.lock!.until === null || after.lock.until < before.lock!.until
}

function editTroubles(edit: FieldEdit, to: TrackingPlan, today: string): PlanTrouble[] {
  const { typeId, fieldId } = edit
  const after = fieldPlan(to, typeId, fieldId)
  const says =
    edit.masked || edit.sensitive || edit.derivedFrom?.length || edit.lock || (edit.reason ?? 'never') !== 'never'
  if (!after) return says ? [{ trouble: 'says-of-untracked', typeId, fieldId }] : []
  const until = edit.lock?.until
  return until && until < today ? [{ trouble: 'lock-in-the-past', typeId, fieldId, until }] : []
}

function typeTroubles(typeId: number, type: TypePlan): PlanTrouble[] {
  return Object.entries(type.fields).flatMap(([id, field]): PlanTrouble[] => {
    const fieldId = Number(id)
    const sources = field.derivedFrom ?? []
    const missing = sources.filter((source) => !type.fields[source])
    return [
      ...(field.masked && field.keep === 'fingerprint'
        ? [{ trouble: 'masks-a-fingerprint', typeId, fieldId } as const]
        : []),
      ...(missing.length > 0 ? [{ trouble: 'derived-from-untracked', typeId, fieldId, missing } as const] : []),
      ...(reaches(type, sources, fieldId) ? [{ trouble: 'derived-in-a-circle', typeId, fieldId } as const] : []),
    ]
  })
}

function guardTroubles(typeId: number, plan: TrackingPlan, guard: Guard): PlanTrouble[] {
  const type = plan.types[typeId]!
  // What it asks of besides may be of the record whose line it is.
  const planned = (fieldId: number) =>
    type.fields[fieldId] ?? Object.values(plan.types).find((one) => one.fields[fieldId])?.fields[fieldId]
  const asksValue = (fieldId: number) => guard.held?.fieldId === fieldId || guard.test.test !== 'any'
  return [
    ...(type.onFailure === 'pass' ? [{ trouble: 'guards-what-passes', typeId, guard: guard.name } as const] : []),
    ...fieldsOfGuard(guard).flatMap((fieldId): PlanTrouble[] => {
      const field = planned(fieldId)
      if (!field) return [{ trouble: 'guard-asks-untracked', typeId, fieldId, guard: guard.name }]
      return field.keep === 'fingerprint' && asksValue(fieldId)
        ? [{ trouble: 'guard-asks-fingerprint', typeId, fieldId, guard: guard.name }]
        : []
    }),
  ]
}

function reaches(type: TypePlan, from: readonly number[], wanted: number): boolean {
  const seen = new Set<number>()
  const waiting = [...from]
  for (let next = waiting.pop(); next !== undefined; next = waiting.pop()) {
    if (next === wanted) return true
    if (seen.has(next)) continue
    seen.add(next)
    waiting.push(...(type.fields[next]?.derivedFrom ?? []))
  }
  return false
}

/** A trouble in words. `nameOf` names a field with its type: "deposit of tenancies". */
export function troubleWords(trouble: PlanTrouble, nameOf: (fieldId: number) => string): string {
  const name = 'fieldId' in trouble ? nameOf(trouble.fieldId) : ''
  switch (trouble.trouble) {
    case 'locked': {
      const end = trouble.until === null ? 'for good' : `until ${dateText(trouble.until)}`
      return `${name} is locked ${end}: it can be neither switched off nor kept with less, and its lock can only be made longer.`
    }
    case 'lock-in-the-past':
      return `${name} would be locked until ${dateText(trouble.until)}, which is past.`
    case 'says-of-untracked':
      return `${name} is not tracked, so nothing more can be said of it.`
    case 'masks-a-fingerprint':
      return `${name} is kept as a fingerprint, which shows no value that could be masked.`
    case 'derived-from-untracked':
      return `${name} cannot follow from ${listed(trouble.missing.map(nameOf))}, since that is not tracked.`
    case 'derived-in-a-circle':
      return `${name} would follow from itself, by way of the fields it is derived from.`
    case 'guard-asks-untracked':
      return `The guard “${trouble.guard}” asks of ${name}, which is not tracked: track it, or take the guard away.`
    case 'guard-asks-fingerprint':
      return `The guard “${trouble.guard}” asks what ${name} holds, which is kept as a fingerprint: no value of it is at hand.`
    case 'guards-untracked':
      return `The guard “${trouble.guard}” is of records that are not tracked: track a field of them first.`
    case 'guards-what-passes':
      return `The guard “${trouble.guard}” would not hold: what cannot be captured is let through there, and the guard asks what is captured. Have it refused instead.`
    default:
      return assertNever(trouble)
  }
}
