import Big from 'big.js'
import { daysWords, weekday } from '../time/weekday.ts'
import { isQuiet } from '../watch/rule.ts'
import { isDate, wallClock } from '../time/zone.ts'
import { canonicalJson, type Json } from '../proof/canonical.ts'
import { arrayMembers } from '../value/array.ts'
import { isDecimal } from '../value/difference.ts'
import { valueKind, type CapturedValue } from '../value/type.ts'
import { counted, listed } from '../words/list.ts'

export const guardActs = ['create', 'change', 'delete'] as const
export type GuardAct = (typeof guardActs)[number]

/**
 * What a guard asks of a field that is written. Numbers are decimal text. `past` and `future` are of the day in the zone of
 * the guard. A value that is not what its field's type says (NaN, infinity) meets no test of numbers or days.
 */
export type GuardTest =
  | { test: 'any' }
  | { test: 'from' | 'to' | 'to-other'; values: readonly CapturedValue[] }
  | { test: 'outside'; least: string | null; most: string | null }
  | { test: 'rises' | 'falls'; by: string; share: boolean }
  | { test: 'emptied' }
  | { test: 'shrinks' }
  | { test: 'past' | 'future' }

/** Who is meant: whoever every list names that names anybody; or, with `others`, everybody else. */
export interface GuardBy {
  actors: readonly string[]
  kinds: readonly string[]
  channels: readonly string[]
  logins: readonly string[]
  others: boolean
}

/** Hours of days of the week (1 is Monday); or, with `outside`, all other times. `from` and `to` alike are the whole day. */
export interface GuardTimes {
  days: readonly number[]
  from: string
  to: string
  outside: boolean
}

/** What is refused in the source, before it is done: all that is said must hold. */
export interface Guard {
  name: string
  /** What whoever is refused reads. */
  words: string
  /** One that only warns lets through what it would refuse and counts it. */
  mode: 'refuse' | 'warn'
  acts: readonly GuardAct[]
  /** The field whose being written is meant; null for the record as a whole. */
  fieldId: number | null
  test: GuardTest
  /** What another field of the record held before, or does when it is created; or one of the record whose line it is. */
  held: { fieldId: number; values: readonly CapturedValue[]; other: boolean } | null
  by: GuardBy | null
  times: GuardTimes | null
  withoutReason: boolean
  /** Only where one statement writes more records of the type than so many. */
  above: number | null
  zone: string
}

/** A save as a guard looks at it. */
export interface GuardedSave {
  action: GuardAct
  changes: ReadonlyMap<number, readonly [before: CapturedValue, after: CapturedValue]>
  /** What a field held before the save, of a creation what it was made with; undefined where nobody knows. */
  held(fieldId: number): CapturedValue | undefined
  /** Who it is said to be by, as far as the login is believed. */
  actor: string | null
  kind: string
  channel: string
  login: string
  reason: string | null
  /** ISO 8601, UTC. */
  at: string
  /** How many records of the type its statement wrote. */
  together: number
}

/** The fields that a guard asks of. */
export function fieldsOfGuard(guard: Guard): number[] {
  return [...new Set([guard.fieldId, guard.held?.fieldId ?? null])].filter((id) => id !== null)
}

/** Whether a test is one that values of a type can be put to. @param baseType as for {@link valueKind} */
export function testFits({ test }: GuardTest, baseType: string): boolean {
  const kind = valueKind(baseType)
  switch (test) {
    case 'outside':
    case 'rises':
    case 'falls':
      return kind === 'number' && baseType !== 'money'
    case 'shrinks':
      return kind === 'set'
    case 'past':
    case 'future':
      return kind === 'date' || kind === 'timestamp'
    default:
      return true
  }
}

/**
 * Whether a guard refuses a save, or warns of it. The same is asked in the source, as SQL; the two are held against each
 * other by a test.
 * @param baseTypeOf of a field, by its number
 */
export function guardMeets(guard: Guard, save: GuardedSave, baseTypeOf: (fieldId: number) => string): boolean {
  if (!guard.acts.includes(save.action)) return false
  if (guard.above !== null && save.together <= guard.above) return false
  // Blanks are no reason, as the source has it.
  if (guard.withoutReason && (save.reason ?? '').replaceAll(' ', '') !== '') return false
  if (guard.by !== null && isMeant(guard.by, save) === guard.by.others) return false
  if (guard.times !== null && isWithin(guard.times, save.at, guard.zone) === guard.times.outside) return false
  if (guard.fieldId !== null) {
    const change = save.changes.get(guard.fieldId)
    if (!change || !passes(guard, change, baseTypeOf(guard.fieldId), save.at)) return false
  }
  if (guard.held === null) return true
  const held = save.held(guard.held.fieldId)
  return held !== undefined && guard.held.values.includes(held) !== guard.held.other
}

function isMeant({ actors, kinds, channels, logins }: GuardBy, save: GuardedSave): boolean {
  const named = (list: readonly string[], one: string | null) =>
    list.length === 0 || (one !== null && list.includes(one))
  return (
    named(actors, save.actor) && named(kinds, save.kind) && named(channels, save.channel) && named(logins, save.login)
  )
}

function isWithin({ days, from, to }: GuardTimes, at: string, zone: string): boolean {
  const { date, time } = wallClock(Date.parse(at), zone)
  return days.includes(weekday(date)) && (from === to || isQuiet({ from, to }, time))
}

function passes(
  { test, zone }: Guard,
  [before, after]: readonly [CapturedValue, CapturedValue],
  baseType: string,
  at: string,
): boolean {
  switch (test.test) {
    case 'any':
      return true
    case 'from':
      return test.values.includes(before)
    case 'to':
      return test.values.includes(after)
    case 'to-other':
      return !test.values.includes(after)
    case 'outside':
      return (
        isNumber(after) &&
        ((test.least !== null && new Big(after).lt(test.least)) || (test.most !== null && new Big(after).gt(test.most)))
      )
    case 'rises':
    case 'falls': {
      if (!isNumber(before) || !isNumber(after)) return false
      const by = test.test === 'rises' ? new Big(after).minus(before) : new Big(before).minus(after)
      // A share of nothing is no share.
      if (!test.share) return by.gt(test.by)
      return !new Big(before).eq(0) && by.times(100).gt(new Big(before).abs().times(test.by))
    }
    case 'emptied':
      return !isEmpty(before, baseType) && isEmpty(after, baseType)
    case 'shrinks': {
      const [from, to] = [membersOf(before), membersOf(after)]
      if (from === null || to === null) return false
      return from.some((member) => member !== null && !to.includes(member))
    }
    case 'past':
    case 'future': {
      const day = dayOf(after, baseType, zone)
      if (day === null) return false
      const today = wallClock(Date.parse(at), zone).date
      return test.test === 'past' ? day < today : day > today
    }
  }
}

/** The members of a set, whatever numbers its places have; null of what is no plain array. */
function membersOf(value: CapturedValue): CapturedValue[] | null {
  return value === null ? [] : arrayMembers(value.replace(/^\[-?\d+:-?\d+\]=/, ''))
}

const isNumber = (value: CapturedValue): value is string => value !== null && isDecimal(value)

function isEmpty(value: CapturedValue, baseType: string): boolean {
  return value === null || value === (valueKind(baseType) === 'set' ? '{}' : '')
}

const plainDay = /^\d{4}-\d\d-\d\d(?: \d\d:\d\d:\d\d(?:\.\d+)?(?:\+00)?)?$/

/** The day of a date or a moment, in a zone where the value has one of its own. */
function dayOf(value: CapturedValue, baseType: string, zone: string): string | null {
  if (value === null || !plainDay.test(value)) return null
  const day = value.slice(0, 10)
  if (baseType !== 'timestamptz') return isDate(day) ? day : null
  const ms = Date.parse(`${value.slice(0, 19).replace(' ', 'T')}Z`)
  return Number.isFinite(ms) ? wallClock(ms, zone).date : null
}

export type GuardNames = (fieldId: number) => string

const quoted = (values: readonly CapturedValue[]) =>
  listed(
    values.map((value) => (value === null ? 'nothing' : `“${value}”`)),
    'or',
  )

function testWords(test: GuardTest): string {
  switch (test.test) {
    case 'any':
      return ''
    case 'from':
      return ` from ${quoted(test.values)}`
    case 'to':
      return ` to ${quoted(test.values)}`
    case 'to-other':
      return ` to anything but ${quoted(test.values)}`
    case 'outside':
      if (test.least === null) return ` above ${test.most ?? '0'}`
      return test.most === null ? ` below ${test.least}` : ` outside ${test.least} to ${test.most}`
    case 'rises':
      return ` up by more than ${test.by}${test.share ? ' %' : ''}`
    case 'falls':
      return ` down by more than ${test.by}${test.share ? ' %' : ''}`
    case 'emptied':
      return ' to nothing'
    case 'shrinks':
      return ' that take members away'
    case 'past':
      return ' to a day that is past'
    case 'future':
      return ' to a day that is still to come'
  }
}

const actWords: Readonly<Record<GuardAct, string>> = {
  create: 'creation',
  change: 'changes',
  delete: 'deletion',
}

/**
 * "Refuse changes of unit price of order lines where status is “approved”, except by Oona Marchetti, without a reason."
 * @param nameOf names a field with its type: "unit price of order lines"
 */
export function guardSentence(guard: Guard, plural: string, nameOf: GuardNames): string {
  const acts = listed(guardActs.filter((act) => guard.acts.includes(act)).map((act) => actWords[act]))
  const what =
    guard.fieldId === null ? `${acts} of ${plural}` : `${acts} of ${nameOf(guard.fieldId)}${testWords(guard.test)}`
  const held = guard.held ? ` where ${nameOf(guard.held.fieldId)} ${heldWords(guard.held)}` : ''
  const more = [
    ...(guard.above === null ? [] : [`more than ${counted(guard.above, 'record')} at once`]),
    ...(guard.by ? [byWords(guard.by)] : []),
    ...(guard.times ? [timesWords(guard.times, guard.zone)] : []),
    ...(guard.withoutReason ? ['without a reason'] : []),
  ]
  return `${guard.mode === 'refuse' ? 'Refuse' : 'Warn of'} ${what}${held}${more.map((words) => `, ${words}`).join('')}`
}

function heldWords({ values, other }: NonNullable<Guard['held']>): string {
  if (values.length === 1 && values[0] === null) return other ? 'holds something' : 'holds nothing'
  return `is ${other ? 'not ' : ''}${quoted(values)}`
}

function byWords({ actors, kinds, channels, logins, others }: GuardBy): string {
  const who = [
    ...(actors.length > 0 ? [listed(actors, 'or')] : []),
    ...(kinds.length > 0
      ? [
          listed(
            kinds.map((kind) => `a ${kind}`),
            'or',
          ),
        ]
      : []),
    ...(channels.length > 0 ? [`by way of ${listed(channels, 'or')}`] : []),
    ...(logins.length > 0 ? [`the login ${listed(logins, 'or')}`] : []),
  ].join(', ')
  return others ? `by anybody but ${who}` : `by ${who}`
}

function timesWords({ days, from, to, outside }: GuardTimes, zone: string): string {
  const hours = from === to ? '' : ` ${from} to ${to}`
  return `${outside ? 'outside' : 'on'} ${daysWords(days)}${hours} (${zone})`
}

/** Why a guard cannot be what somebody asks for, after its name: "names nobody"; null where it can. */
export function guardTrouble(guard: Guard, baseTypeOf: (fieldId: number) => string, nameOf: GuardNames): string | null {
  const { fieldId, test, acts, held, above, by, times, withoutReason } = guard
  if (acts.length === 0) return 'says of no act that it is refused'
  if (fieldId !== null && acts.includes('delete')) return 'asks of a field, and a deletion writes none'
  if (fieldId === null && test.test !== 'any') return 'asks of values and names no field'
  if (fieldId !== null && !testFits(test, baseTypeOf(fieldId)))
    return `asks of ${nameOf(fieldId)} what values of its type (${baseTypeOf(fieldId)}) cannot answer`
  if (numbersOf(test).some((number) => !isDecimal(number))) return 'names no number'
  if (test.test === 'outside' && numbersOf(test).length === 0) return 'names neither the least nor the most'
  if ('values' in test && test.values.length === 0) return 'names no value'
  if (held && held.values.length === 0) return `names no value of ${nameOf(held.fieldId)}`
  if (by && by.actors.length + by.kinds.length + by.channels.length + by.logins.length === 0) return 'names nobody'
  if (times && times.days.length === 0) return 'names no day'
  const open = above === null && by === null && times === null && !withoutReason && held === null
  if (fieldId === null && open && guard.mode === 'refuse' && acts.length === guardActs.length)
    return 'would refuse every save of the type'
  return null
}

function numbersOf(test: GuardTest): string[] {
  if (test.test === 'outside') return [test.least, test.most].filter((number) => number !== null)
  return test.test === 'rises' || test.test === 'falls' ? [test.by] : []
}

/** Whether two guards are the same, however their parts are ordered. */
export function sameGuard(a: Guard | undefined, b: Guard | undefined): boolean {
  if (!a || !b) return a === b
  const [one, other] = [a, b].map((guard) => canonicalJson(guard as unknown as Json))
  return one === other
}
