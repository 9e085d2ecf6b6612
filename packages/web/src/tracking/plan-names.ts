import type { PlanVersion, SourceMap } from '@spoor/contract'
import {
  capitalised,
  emptyPlan,
  planLines,
  withEdits,
  type PlanEdit,
  type PlanLine,
  type TrackingPlan,
} from '@spoor/core'

export interface NamedLine {
  id: string
  name: string
  words: string
}

/** What differs between two plans, with the names of the source's types and fields. */
export function namedLines(source: SourceMap, lines: readonly PlanLine[] | PlanVersion['lines']): NamedLine[] {
  const types = new Map(source.types.map((type) => [type.id, type]))
  const fields = new Map(source.types.flatMap((type) => type.fields.map((field) => [field.id, field] as const)))
  return lines.map(({ typeId, fieldId, words }, at) => {
    const type = typeId === null ? 'The plan' : capitalised(types.get(typeId)?.name ?? `record type ${typeId}`)
    const field = fieldId === null ? '' : ` · ${fields.get(fieldId)?.name ?? `field ${fieldId}`}`
    return { id: `${typeId} ${fieldId} ${at}`, name: `${type}${field}`, words: words.join(', ') }
  })
}

/** The plan in force as far as the map shows it. */
function planOf(source: SourceMap): TrackingPlan {
  const edits: PlanEdit[] = source.types.flatMap((type) => [
    ...type.fields
      .filter((field) => field.keep !== 'off')
      .map(({ id, keep, masked, sensitive, reason, derivedFrom, lock }) => ({
        typeId: type.id,
        fieldId: id,
        keep,
        masked,
        sensitive,
        reason,
        derivedFrom,
        lock,
      })),
    {
      typeId: type.id,
      reason: type.reason,
      newColumns: type.newColumns,
      onFailure: type.onFailure,
      asFound: type.asFound,
    },
    ...type.guards.map(({ id, guard }) => ({ typeId: type.id, guardId: id, guard })),
  ])
  return withEdits(emptyPlan, [
    ...edits,
    { secondPerson: source.secondPerson, correctionsAbove: source.correctionsAbove },
  ])
}

/** What the draft changes, in words. */
export function draftLines(source: SourceMap): NamedLine[] {
  if (source.draft.edits.length === 0) return []
  const names = new Map(source.types.flatMap((type) => type.fields.map((field) => [field.id, field.name] as const)))
  const plan = planOf(source)
  const next = withEdits(plan, source.draft.edits as PlanEdit[])
  return namedLines(
    source,
    planLines(plan, next, (id) => names.get(id) ?? `field ${id}`),
  )
}
