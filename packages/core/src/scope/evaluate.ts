import Big from 'big.js'
import { weekday } from '../time/weekday.ts'
import { wallClock } from '../time/zone.ts'
import { isDecimal } from '../value/difference.ts'
import type { CapturedValue } from '../value/type.ts'
import { assertNever } from '../words/assert-never.ts'
import {
  casesOf,
  partsOf,
  transactionsOf,
  type ActorKind,
  type ChangeState,
  type RecordRef,
  type Scope,
  type ScopeAction,
  type ScopePart,
  type ValueTest,
} from './model.ts'
import { daysOf, instantsOf } from './span.ts'

/** What a scope looks at in one change. */
export interface ScopedChange {
  actorId: number
  actorKind: ActorKind
  typeId: number
  fieldId: number
  key: string
  /** The record whose line it is, if it is one. */
  parent: RecordRef | null
  /** When it was made, epoch milliseconds; microseconds as a fraction. */
  atMs: number
  /** What its record, or the record whose line it is, held in the fields that a scope asks for, as far as that is known. */
  held?: readonly { fieldId: number; now: boolean; value: CapturedValue }[]
  action: Exclude<ScopeAction, 'restore'>
  /** Of a creation, whether the record had been deleted before. */
  restored: boolean
  /** The record's own day of effect after this save, `YYYY-MM-DD`; null when it has none or none is known. */
  effectiveOn: string | null
  channel: string
  runId: number
  /** Numbers of saves that its transaction made, as far as a scope asks for them. */
  transactionOf: readonly string[]
  before: CapturedValue
  after: CapturedValue
  /** Its values were erased: nothing that is asked of them holds, not even that there were none. */
  erased?: boolean
  /** Whether the field holds numbers, so that it can rise and fall. */
  isNumber: boolean
  reason: string | null
  states: readonly ChangeState[]
  /** Stories of what stands out that it is told in. */
  stories: readonly number[]
  /** Cases in which it is gathered. */
  cases: readonly number[]
}

/** Whether a change is in scope. The server's SQL is held against this on random data. */
export function matches(scope: Scope, change: ScopedChange, nowMs: number): boolean {
  return partsOf(scope).every((part) => holds(part, change, nowMs) !== part.exclude)
}

function holds(part: ScopePart, change: ScopedChange, nowMs: number): boolean {
  switch (part.part) {
    case 'who':
      // Groups are put down as actors before anything is matched.
      return part.actors.includes(change.actorId) || part.kinds.includes(change.actorKind)
    case 'what':
      return part.types.includes(change.typeId) || part.fields.includes(change.fieldId)
    case 'record':
      return part.records.some((record) => isIt(record, change) || (part.lines && isIt(record, change.parent)))
    case 'holds':
      return part.tests.every(({ fieldId, now, values }) =>
        change.held?.some((one) => one.fieldId === fieldId && one.now === now && values.includes(one.value)),
      )
    case 'when': {
      if (part.effective) {
        const { from, to } = daysOf(part.span, nowMs)
        const day = change.effectiveOn
        return day !== null && (from === null || day >= from) && (to === null || day <= to)
      }
      const { fromMs, toMs } = instantsOf(part.span, nowMs)
      return (fromMs === null || change.atMs >= fromMs) && (toMs === null || change.atMs < toMs)
    }
    case 'clock': {
      const { date, time } = wallClock(Math.floor(change.atMs), part.zone)
      return (
        (part.hours.length === 0 || part.hours.includes(Number(time.slice(0, 2)))) &&
        (part.weekdays.length === 0 || part.weekdays.includes(weekday(date)))
      )
    }
    case 'how':
      return (
        (part.actions.length === 0 ||
          part.actions.includes(change.action) ||
          (part.actions.includes('restore') && change.restored)) &&
        (part.channels.length === 0 || part.channels.includes(change.channel)) &&
        (part.runs.length === 0 || part.runs.includes(change.runId)) &&
        (transactionsOf(part).length === 0 || transactionsOf(part).some((save) => change.transactionOf.includes(save)))
      )
    case 'value':
      return part.tests.every((test) => valueHolds(test, change))
    case 'reason':
      return change.reason !== null && (part.contains === null || contains(change.reason, part.contains))
    case 'state':
      return (
        part.states.some((state) => change.states.includes(state)) ||
        part.stories.some((story) => change.stories.includes(story)) ||
        casesOf(part).some((one) => change.cases.includes(one))
      )
    default:
      return assertNever(part)
  }
}

function isIt(record: RecordRef, other: RecordRef | null): boolean {
  return other !== null && record.typeId === other.typeId && record.key === other.key
}

function contains(value: CapturedValue, text: string): boolean {
  return value !== null && value.toLowerCase().includes(text.toLowerCase())
}

function valueHolds(test: ValueTest, { before, after, isNumber, erased }: ScopedChange): boolean {
  if (erased) return false
  switch (test.test) {
    case 'from':
      return before === test.value
    case 'to':
      return after === test.value
    case 'contains':
      return contains(before, test.text) || contains(after, test.text)
    case 'rose':
    case 'fell': {
      if (!isNumber || before === null || after === null || !isDecimal(before) || !isDecimal(after)) return false
      const from = new Big(before)
      const by = test.test === 'rose' ? new Big(after).minus(from) : from.minus(after)
      // More than a share of nothing is never known.
      if (test.percent) return !from.eq(0) && by.times(100).gt(from.abs().times(test.by))
      return by.gt(test.by)
    }
    default:
      return assertNever(test)
  }
}
