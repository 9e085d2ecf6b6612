import type { Guard } from '../guard/rule.ts'
import { dateText } from '../scope/sentence.ts'
import { counted, listed } from '../words/list.ts'

import { fieldDifferences, guardDifferences, rulesOf, type FieldPlan, type TrackingPlan } from './model.ts'

/** What differs between two plans, of one field, one record type, or the plan as a whole. */
export interface PlanLine {
  typeId: number | null
  fieldId: number | null
  /** "off → values", "masked", "reason required": joined they read as a list. */
  words: string[]
}

/** Two plans' differences in words, by type: its own rules first, then its fields. */
export function planLines(from: TrackingPlan, to: TrackingPlan, nameOf: (fieldId: number) => string): PlanLine[] {
  const fields = fieldDifferences(from, to).map((difference): PlanLine => ({
    typeId: difference.typeId,
    fieldId: difference.fieldId,
    words: fieldWords(difference.from, difference.to, nameOf),
  }))
  const types = [...new Set([...Object.keys(from.types), ...Object.keys(to.types)].map(Number))].sort((a, b) => a - b)
  const rules = types.flatMap((typeId): PlanLine[] => {
    const [before, after] = [rulesOf(from, typeId), rulesOf(to, typeId)]
    const words = [
      ...(before.reason === after.reason ? [] : [`reason ${after.reason}`]),
      ...(before.newColumns === after.newColumns
        ? []
        : [after.newColumns === 'track' ? 'new columns are tracked at once' : 'new columns wait for a decision']),
      ...(before.onFailure === after.onFailure
        ? []
        : [
            after.onFailure === 'pass'
              ? 'a save that cannot be captured is let through and told of'
              : 'a save that cannot be captured is refused',
          ]),
      ...(before.asFound === after.asFound
        ? []
        : [
            after.asFound === 'take'
              ? 'what is there when tracking begins is taken in as found'
              : 'what is there when tracking begins is not taken in',
          ]),
    ]
    return words.length > 0 && to.types[typeId] ? [{ typeId, fieldId: null, words }] : []
  })
  const guards = guardDifferences(from, to).map(({ typeId, guardId, from: before, to: after }): PlanLine => ({
    typeId,
    fieldId: null,
    words: [guardWords(guardId, before, after)],
  }))
  const whole = [
    ...((from.secondPerson ?? false) === (to.secondPerson ?? false)
      ? []
      : [to.secondPerson ? 'takes a second person' : 'takes one person']),
    ...(from.correctionsAbove === to.correctionsAbove
      ? []
      : [
          to.correctionsAbove === undefined
            ? 'corrections of any size are applied by one person'
            : `corrections of more than ${counted(to.correctionsAbove, 'record')} take a second person`,
        ]),
  ]
  const plan: PlanLine[] = whole.length > 0 ? [{ typeId: null, fieldId: null, words: whole }] : []
  return [...plan, ...[...rules, ...guards, ...fields].sort((a, b) => a.typeId! - b.typeId!)]
}

function guardWords(guardId: number, from: Guard | null, to: Guard | null): string {
  const called = `guard ${guardId} “${(to ?? from)!.name}”`
  if (!to) return `${called} taken away`
  const does = to.mode === 'refuse' ? 'refuses' : 'only warns'
  return from ? `${called} changed${from.mode === to.mode ? '' : `: ${does}`}` : `${called} added: ${does}`
}

function fieldWords(from: FieldPlan | null, to: FieldPlan | null, nameOf: (fieldId: number) => string): string[] {
  const words: string[] = []
  if (from?.keep !== to?.keep) words.push(`${from?.keep ?? 'off'} → ${to?.keep ?? 'off'}`)
  if (!to) return words
  if ((from?.masked ?? false) !== (to.masked ?? false)) words.push(to.masked ? 'masked' : 'no longer masked')
  if ((from?.sensitive ?? false) !== (to.sensitive ?? false))
    words.push(to.sensitive ? 'sensitive' : 'no longer sensitive')
  if ((from?.reason ?? 'never') !== (to.reason ?? 'never')) words.push(`reason ${to.reason ?? 'never asked'}`)
  if ((from?.derivedFrom ?? []).join() !== (to.derivedFrom ?? []).join())
    words.push(to.derivedFrom?.length ? `follows from ${listed(to.derivedFrom.map(nameOf))}` : 'follows from nothing')
  const [was, is] = [from?.lock, to.lock].map((lock) => (lock ? (lock.until ?? '') : null))
  if (was !== is)
    words.push(is === null ? 'lock taken off' : is === '' ? 'locked for good' : `locked until ${dateText(is!)}`)
  return words
}
