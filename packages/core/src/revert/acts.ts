import type { CapturedValue } from '../value/type.ts'
import { groupBy } from '../words/group.ts'
import { placeOfRecord, type Act, type GuardedWrite } from './plan.ts'

/** What is done with one record in one go. */
export interface RecordAct {
  act: Act
  typeId: number
  key: string
  writes: GuardedWrite[]
  /** Acts of one step do not wait for each other; those of an earlier one come before. */
  step: number
}

/** How records of a type refer to another record by its key. */
export interface Reference {
  toTypeId: number
  /** For each part of the other's key, in its order, the field that holds it, or the place in the record's own key. */
  parts: readonly { fieldId: number | null; keyAt: number | null }[]
  /** Whether a record may be without it. */
  optional: boolean
}

/**
 * The records that a record refers to; those of which a part is not known are left out.
 * @param valueOf a field's value, undefined where it is not known
 */
export function recordsReferred(
  key: string,
  references: readonly Reference[],
  valueOf: (fieldId: number) => CapturedValue | undefined,
): { typeId: number; key: string; reference: Reference }[] {
  const own = JSON.parse(key) as string[]
  return references.flatMap((reference) => {
    const parts = reference.parts.map(({ fieldId, keyAt }) => {
      const value = fieldId === null ? undefined : valueOf(fieldId)
      return value === undefined && keyAt !== null ? own[keyAt] : value
    })
    return parts.every((part) => typeof part === 'string')
      ? [{ typeId: reference.toTypeId, key: JSON.stringify(parts), reference }]
      : []
  })
}

/**
 * Writes by record, in an order in which a source can take them: what is made anew before what refers to it, what is removed
 * after. Of records that refer to each other in a circle some are made without that reference and get it afterwards.
 * @param removeFirst whether records are removed before any is made anew: what goes may hold a value that only one can have
 */
export function actsOf(
  writes: readonly GuardedWrite[],
  references: (typeId: number) => readonly Reference[],
  { removeFirst = false } = {},
): RecordAct[] {
  const of = (wanted: Act) =>
    [
      ...groupBy(
        writes.filter(({ act }) => act === wanted),
        placeOfRecord,
      ).values(),
    ].map((group): RecordAct => {
      const { act, typeId, key } = group[0]!
      return { act, typeId, key, writes: group, step: 0 }
    })
  const made = inOrder(of('recreate'), references, ({ value }) => value)
  const removed = inOrder(of('remove'), references, ({ expected }) => expected)
  const makes = [...made.steps, made.cut.map((write) => set({ ...write, expected: null }))]
  const removals = [removed.cut.map((write) => set({ ...write, value: null })), ...removed.steps.toReversed()]
  const steps = removeFirst ? [...removals, ...makes, of('set')] : [...makes, of('set'), ...removals]
  return steps.flatMap((acts, step) => acts.map((act) => ({ ...act, step })))
}

const set = (write: GuardedWrite): RecordAct => ({
  act: 'set',
  typeId: write.typeId,
  key: write.key,
  writes: [{ ...write, act: 'set' }],
  step: 0,
})

/**
 * Records so that those referred to come in an earlier step.
 * @returns also the references that had to be cut for that: the writes as they were; in the order they hold nothing
 */
function inOrder(
  acts: readonly RecordAct[],
  references: (typeId: number) => readonly Reference[],
  held: (write: GuardedWrite) => CapturedValue,
): { steps: RecordAct[][]; cut: GuardedWrite[] } {
  const byPlace = new Map(acts.map((act) => [placeOfRecord(act), act]))
  const cut: GuardedWrite[] = []
  const links = acts.flatMap((act) => {
    const values = new Map(act.writes.map((write) => [write.fieldId, held(write)]))
    const place = placeOfRecord(act)
    return recordsReferred(act.key, references(act.typeId), (id) => values.get(id))
      .map((referred) => ({ from: place, to: placeOfRecord(referred), reference: referred.reference }))
      .filter(({ to }) => to !== place && byPlace.has(to))
  })
  /** By record: the references by which it waits for others, by those others; and who waits for it. */
  const waits = new Map(acts.map((act) => [placeOfRecord(act), new Map<string, Reference[]>()]))
  for (const [from, of] of groupBy(links, (link) => link.from))
    for (const [to, same] of groupBy(of, (link) => link.to))
      waits.get(from)!.set(
        to,
        same.map(({ reference }) => reference),
      )
  const waiting = groupBy(links, (link) => link.to)
  const steps: RecordAct[][] = []
  let ready = acts.map(placeOfRecord).filter((place) => waits.get(place)!.size === 0)
  while (waits.size > 0) {
    if (ready.length === 0) {
      ready = cutOne()
      continue
    }
    const next: string[] = []
    steps.push(ready.map((place) => byPlace.get(place)!))
    for (const place of ready) {
      waits.delete(place)
      for (const { from } of waiting.get(place) ?? []) {
        const needs = waits.get(from)
        if (needs?.delete(place) && needs.size === 0) next.push(from)
      }
    }
    ready = next
  }
  return { steps, cut }

  /** A circle: one record goes ahead without what it may be without; where none may, the source has its say. */
  function cutOne(): string[] {
    for (const [place, needs] of waits) {
      const all = [...needs.values()].flat()
      if (!all.every(({ optional, parts }) => optional && parts.every(({ fieldId }) => fieldId !== null))) continue
      const act = byPlace.get(place)!
      const fields = new Set(all.flatMap(({ parts }) => parts.map(({ fieldId }) => fieldId)))
      cut.push(...act.writes.filter(({ fieldId }) => fields.has(fieldId)))
      byPlace.set(place, {
        ...act,
        writes: act.writes.map((write) => (fields.has(write.fieldId) ? without(write) : write)),
      })
      needs.clear()
      return [place]
    }
    return [...waits.keys()]
  }
}

const without = (write: GuardedWrite): GuardedWrite =>
  write.act === 'recreate' ? { ...write, value: null } : { ...write, expected: null }
