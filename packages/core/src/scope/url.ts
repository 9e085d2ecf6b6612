import { isDate, isZone } from '../time/zone.ts'
import { isDecimal } from '../value/difference.ts'
import {
  actorKinds,
  casesOf,
  changeStates,
  groupsOf,
  isHollow,
  scopeActions,
  transactionsOf,
  withPart,
  type ActorKind,
  type ChangeState,
  type HeldTest,
  type RecordRef,
  type Scope,
  type ScopeAction,
  type Span,
  type ValueTest,
  type WhoGroup,
} from './model.ts'

/** A piece of a link that was not understood. Nothing is widened because of it: the scope is refused until it is mended. */
export interface ScopeProblem {
  /** The parameter's name in the link. */
  name: string
  /** What stood there. */
  text: string
  words: string
}

export interface ParsedScope {
  scope: Scope
  problems: ScopeProblem[]
}

type Entry = readonly [name: string, value: string]

const listSeparator = ','
/** Before days that are the record's own day of effect. */
const ownDay = 'effective.'
/** Before a record whose lines are not meant. */
const alone = 'alone.'
/** Parts that are written one parameter a member, since their members may hold anything. */
const repeatable = new Set(['record', 'value', 'holds'])
const maxMembers = 1000
const minute = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}Z$/
const maxText = 500
const maxTests = 10
/** Values of one field. */
const maxHeld = 50
const maxSpanDays = 36_600

/** The scope as parameters of a link, in a fixed order; {@link parseScope} gives the same scope back. */
export function scopeEntries(scope: Scope): [string, string][] {
  const entries: [string, string][] = []
  const add = (name: string, exclude: boolean, text: string) => entries.push([name, (exclude ? '!' : '') + text])
  const { what, record, holds, who, when, clock, how, value, reason, state } = scope
  if (what)
    add(
      'what',
      what.exclude,
      [...what.types.map((id) => `t${id}`), ...what.fields.map((id) => `f${id}`)].join(listSeparator),
    )
  if (record)
    for (const { typeId, key } of record.records)
      add('record', record.exclude, `${record.lines ? '' : alone}t${typeId}:${key}`)
  if (holds)
    for (const { fieldId, now, values } of holds.tests)
      for (const value of values)
        add('holds', holds.exclude, `f${fieldId}.${now ? 'now' : 'then'}${value === null ? '-nothing' : `.${value}`}`)
  if (who)
    add(
      'who',
      who.exclude,
      [...who.actors.map((id) => `a${id}`), ...who.kinds.map((k) => `k.${k}`), ...groupsOf(who).map(groupText)].join(
        listSeparator,
      ),
    )
  if (when) add('when', when.exclude, (when.effective ? ownDay : '') + spanText(when.span))
  if (clock)
    add(
      'clock',
      clock.exclude,
      `${[...clock.hours.map((hour) => `h${hour}`), ...clock.weekdays.map((day) => `d${day}`)].join(listSeparator)}@${clock.zone}`,
    )
  if (how)
    add(
      'how',
      how.exclude,
      [
        ...how.actions,
        ...how.channels.map((channel) => `c.${encodeURIComponent(channel)}`),
        ...how.runs.map((id) => `r${id}`),
        ...transactionsOf(how).map((save) => `x${save}`),
      ].join(listSeparator),
    )
  if (value) for (const test of value.tests) add('value', value.exclude, testText(test))
  if (reason) add('reason', reason.exclude, reason.contains === null ? 'given' : `has.${reason.contains}`)
  if (state)
    add(
      'state',
      state.exclude,
      [...state.states, ...state.stories.map((id) => `s${id}`), ...casesOf(state).map((id) => `c${id}`)].join(
        listSeparator,
      ),
    )
  return entries
}

function groupText(group: WhoGroup): string {
  switch (group.group) {
    case 'unit':
      return `u.${encodeURIComponent(group.unit)}`
    case 'joined':
      return `joined${group.months}m`
    case 'left':
    case 'me':
      return group.group
  }
}

function readGroup(member: string): WhoGroup | null {
  if (member === 'me' || member === 'left') return { group: member }
  const joined = /^joined([1-9]\d?)m$/.exec(member)
  if (joined) return { group: 'joined', months: Number(joined[1]) }
  const unit = member.startsWith('u.') ? decoded(member.slice(2)) : null
  return unit ? { group: 'unit', unit } : null
}

function testText(test: ValueTest): string {
  switch (test.test) {
    case 'from':
    case 'to':
      return test.value === null ? `${test.test}-nothing` : `${test.test}.${test.value}`
    case 'contains':
      return `has.${test.text}`
    case 'rose':
    case 'fell':
      return `${test.test}.${test.by}${test.percent ? '%' : ''}`
  }
}

function spanText(span: Span): string {
  if (span.span === 'look') return `look@${span.zone}`
  if (span.span === 'instants') return `${span.from}..${span.to ?? ''}@${span.zone}`
  return span.span === 'last' ? `last${span.days}d@${span.zone}` : `${span.from ?? ''}..${span.to ?? ''}@${span.zone}`
}

/** Reads a scope from a link's parameters. Whatever is not understood, unknown names included, is returned as a problem. */
export function parseScope(entries: Iterable<Entry>): ParsedScope {
  const problems: ScopeProblem[] = []
  const seen = new Set<string>()
  let scope: Scope = {}
  for (const [name, value] of entries) {
    const problem = (words: string) => problems.push({ name, text: value, words })
    const exclude = value.startsWith('!')
    const text = exclude ? value.slice(1) : value
    if (!repeatable.has(name) && seen.has(name)) {
      problem(`“${name}” stands twice; a scope says it once.`)
      continue
    }
    seen.add(name)
    switch (name) {
      case 'who':
        scope = readWho(scope, text, exclude, problem)
        break
      case 'what':
        scope = readWhat(scope, text, exclude, problem)
        break
      case 'record':
        scope = readRecord(scope, text, exclude, problem)
        break
      case 'holds':
        scope = readHolds(scope, text, exclude, problem)
        break
      case 'when':
        scope = readWhen(scope, text, exclude, problem)
        break
      case 'clock':
        scope = readClock(scope, text, exclude, problem)
        break
      case 'how':
        scope = readHow(scope, text, exclude, problem)
        break
      case 'value':
        scope = readValue(scope, text, exclude, problem)
        break
      case 'reason':
        scope = readReason(scope, text, exclude, problem)
        break
      case 'state':
        scope = readState(scope, text, exclude, problem)
        break
      default:
        problem(`“${name}” is not a part of a scope.`)
    }
  }
  return { scope, problems }
}

type Complain = (words: string) => void

function members(text: string, problem: Complain): string[] {
  const list = text.split(listSeparator).filter((member) => member !== '')
  if (list.length > maxMembers) problem(`More than ${maxMembers} names in one part; use a type or a kind instead.`)
  return list.slice(0, maxMembers)
}

/** Of runs there may be as many as saves. */
const runDigits = 15

function idAfter(letter: string, member: string, digits = 9): number | null {
  const number = member.slice(letter.length)
  if (!member.startsWith(letter) || !/^\d+$/.test(number) || number.length > digits) return null
  return Number(member.slice(letter.length))
}

function readWho(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const actors: number[] = []
  const kinds: ActorKind[] = []
  const groups: WhoGroup[] = []
  for (const member of members(text, problem)) {
    const actor = idAfter('a', member)
    const kind = actorKinds.find((k) => member === `k.${k}`)
    const group = readGroup(member)
    if (actor !== null) actors.push(actor)
    else if (kind) kinds.push(kind)
    else if (group) groups.push(group)
    else problem(`“${member}” is neither an actor, a kind of actor nor a group of people.`)
  }
  const among = groups.length > 0 ? { groups } : {}
  return withUnlessHollow(scope, { part: 'who', exclude, actors, kinds, ...among }, problem)
}

function readWhat(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const types: number[] = []
  const fields: number[] = []
  for (const member of members(text, problem)) {
    const type = idAfter('t', member)
    const field = idAfter('f', member)
    if (type !== null) types.push(type)
    else if (field !== null) fields.push(field)
    else problem(`“${member}” is neither a record type nor a field.`)
  }
  return withUnlessHollow(scope, { part: 'what', exclude, types, fields }, problem)
}

function readClock(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const at = text.lastIndexOf('@')
  const zone = text.slice(at + 1)
  if (at < 0 || !isZone(zone)) {
    problem(`The time zone “${at < 0 ? '' : zone}” is not known; an hour means nothing without one.`)
    return scope
  }
  const hours: number[] = []
  const weekdays: number[] = []
  for (const member of members(text.slice(0, at), problem)) {
    const [hour, day] = [idAfter('h', member, 2), idAfter('d', member, 1)]
    if (hour !== null && hour < 24) hours.push(hour)
    else if (day !== null && day >= 1 && day <= 7) weekdays.push(day)
    else problem(`“${member}” is neither an hour of the day nor a day of the week.`)
  }
  return withUnlessHollow(scope, { part: 'clock', exclude, hours, weekdays, zone }, problem)
}

function readHow(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const actions: ScopeAction[] = []
  const channels: string[] = []
  const runs: number[] = []
  const transactions: string[] = []
  for (const member of members(text, problem)) {
    const action = scopeActions.find((one) => one === member)
    const run = idAfter('r', member, runDigits)
    const channel = member.startsWith('c.') ? decoded(member.slice(2)) : null
    const transaction = /^x([1-9]\d{0,17})$/.exec(member)
    if (action) actions.push(action)
    else if (run !== null) runs.push(run)
    else if (transaction) transactions.push(transaction[1]!)
    else if (channel) channels.push(channel)
    else problem(`“${member}” is neither an act, a channel, a run nor a transaction.`)
  }
  const whole = transactions.length > 0 ? { transactions } : {}
  return withUnlessHollow(scope, { part: 'how', exclude, actions, channels, runs, ...whole }, problem)
}

function decoded(text: string): string | null {
  try {
    return decodeURIComponent(text)
  } catch (error) {
    if (error instanceof URIError) return null
    throw error
  }
}

function readValue(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const test = readTest(text)
  if (typeof test === 'string') {
    problem(test)
    return scope
  }
  const before = scope.value
  if (before && before.exclude !== exclude) {
    problem('Some values are asked for here and others left out; say one or the other.')
    return scope
  }
  if ((before?.tests.length ?? 0) >= maxTests) {
    problem(`More than ${maxTests} conditions on values.`)
    return scope
  }
  return withPart(scope, { part: 'value', exclude, tests: [...(before?.tests ?? []), test] })
}

/** @returns the test, or words for what is wrong with it. */
function readTest(text: string): ValueTest | string {
  if (text === 'from-nothing' || text === 'to-nothing')
    return { test: text.startsWith('from') ? 'from' : 'to', value: null }
  const dot = text.indexOf('.')
  const [name, value] = [text.slice(0, dot), text.slice(dot + 1)]
  if (value.length > maxText) return `A value of more than ${maxText} characters is too long to look for.`
  if (name === 'from' || name === 'to') return { test: name, value }
  if (name === 'has') return value === '' ? 'Nothing is asked to be in the value.' : { test: 'contains', text: value }
  if (name === 'rose' || name === 'fell') {
    const percent = value.endsWith('%')
    const by = percent ? value.slice(0, -1) : value
    if (!isDecimal(by) || by.startsWith('-') || /e/i.test(by)) return `“${value}” is not an amount to rise or fall by.`
    return { test: name, by, percent }
  }
  return 'This is not a condition on values.'
}

function readReason(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  if (text === 'given') return withPart(scope, { part: 'reason', exclude, contains: null })
  const contains = text.startsWith('has.') ? text.slice(4) : ''
  if (contains === '' || contains.length > maxText) {
    problem('This says neither that a reason was given nor what it holds.')
    return scope
  }
  return withPart(scope, { part: 'reason', exclude, contains })
}

function readState(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const states: ChangeState[] = []
  const stories: number[] = []
  const cases: number[] = []
  for (const member of members(text, problem)) {
    const state = changeStates.find((one) => one === member)
    const story = idAfter('s', member)
    const inCase = idAfter('c', member)
    if (state) states.push(state)
    else if (story !== null) stories.push(story)
    else if (inCase !== null) cases.push(inCase)
    else problem(`“${member}” is nothing that can become of a change.`)
  }
  return withUnlessHollow(
    scope,
    { part: 'state', exclude, states, stories, ...(cases.length > 0 ? { cases } : {}) },
    problem,
  )
}

function readRecord(scope: Scope, given: string, exclude: boolean, problem: Complain): Scope {
  const lines = !given.startsWith(alone)
  const text = lines ? given : given.slice(alone.length)
  const colon = text.indexOf(':')
  const typeId = idAfter('t', text.slice(0, Math.max(colon, 0)))
  const key = canonicalKey(text.slice(colon + 1))
  if (typeId === null || key === null) {
    problem('This does not name a record by its type and key.')
    return scope
  }
  const before = scope.record
  if (before && before.exclude !== exclude) {
    problem('Some records are left out here and others asked for; say one or the other.')
    return scope
  }
  if (before && before.lines !== lines) {
    problem('Some records are meant with their lines here and others without; say one or the other.')
    return scope
  }
  const records: RecordRef[] = [...(before?.records ?? []), { typeId, key }]
  if (records.length > maxMembers) {
    problem(`More than ${maxMembers} records in one scope.`)
    return scope
  }
  return withPart(scope, { part: 'record', exclude, lines, records })
}

const heldForm = /^f(\d{1,9})\.(then|now)(?:(-nothing)|\.(.*))$/s

function readHolds(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const form = heldForm.exec(text)
  const value = form?.[3] === undefined ? (form?.[4] ?? '') : null
  if (!form || (value?.length ?? 0) > maxText) {
    problem(
      form
        ? `A value of more than ${maxText} characters is too long to look for.`
        : 'This does not say which field held what, then or now.',
    )
    return scope
  }
  const before = scope.holds
  if (before && before.exclude !== exclude) {
    problem('Some records are left out by what they held and others asked for; say one or the other.')
    return scope
  }
  const part = withHeld(before?.tests ?? [], { fieldId: Number(form[1]), now: form[2] === 'now', values: [value] })
  if (part.length > maxTests || part.some(({ values }) => values.length > maxHeld)) {
    problem(`More than ${maxTests} fields, or more than ${maxHeld} values of one.`)
    return scope
  }
  return withPart(scope, { part: 'holds', exclude, tests: part })
}

/** Tests with one more: of a field at one time, one of the values is enough. */
export function withHeld(tests: readonly HeldTest[], added: HeldTest): HeldTest[] {
  const same = (test: HeldTest) => test.fieldId === added.fieldId && test.now === added.now
  if (!tests.some(same)) return [...tests, added]
  return tests.map((test) => (same(test) ? { ...test, values: [...new Set([...test.values, ...added.values])] } : test))
}

/** A list of texts that JSON has only one way to write. */
const plainKey = /^\["[\x20\x21\x23-\x5b\x5d-\x7e]*"(,"[\x20\x21\x23-\x5b\x5d-\x7e]*")*\]$/

/** A record's key in its one written form, or null when the text is not a key: a JSON list of texts. */
export function canonicalKey(text: string): string | null {
  if (plainKey.test(text)) return text
  let key: unknown
  try {
    key = JSON.parse(text)
  } catch (error) {
    if (error instanceof SyntaxError) return null
    throw error
  }
  if (!Array.isArray(key) || key.length === 0 || !key.every((part) => typeof part === 'string')) return null
  return JSON.stringify(key)
}

function readWhen(scope: Scope, given: string, exclude: boolean, problem: Complain): Scope {
  const effective = given.startsWith(ownDay)
  const text = effective ? given.slice(ownDay.length) : given
  const at = text.lastIndexOf('@')
  const zone = text.slice(at + 1)
  const days = text.slice(0, Math.max(at, 0))
  if (at < 0 || !isZone(zone)) {
    problem(`The time zone “${at < 0 ? '' : zone}” is not known; a date means nothing without one.`)
    return scope
  }
  if (days === 'look' && !effective)
    return withPart(scope, { part: 'when', exclude, span: { span: 'look', zone }, effective })
  const last = /^last(\d{1,5})d$/.exec(days)
  if (last) {
    const n = Number(last[1])
    if (n >= 1 && n <= maxSpanDays)
      return withPart(scope, { part: 'when', exclude, span: { span: 'last', days: n, zone }, effective })
    problem(`“last ${n} days” is outside 1 to ${maxSpanDays} days.`)
    return scope
  }
  const ends = days.split('..')
  if (ends.length !== 2) {
    problem('This is not a spell of days.')
    return scope
  }
  const isMinute = (end: string) => minute.test(end) && Number.isFinite(Date.parse(end))
  if (isMinute(ends[0]!) && (ends[1] === '' || isMinute(ends[1]!))) {
    if (effective) {
      problem('A day of effect has no hours; say days.')
      return scope
    }
    const [from, to] = [ends[0]!, ends[1] === '' ? null : ends[1]!]
    if (to === null || from < to)
      return withPart(scope, { part: 'when', exclude, span: { span: 'instants', from, to, zone }, effective })
    problem(`${from} does not come before ${to}.`)
    return scope
  }
  for (const end of ends) if (end !== '' && !isDate(end)) problem(`“${end}” is not a date.`)
  if (ends.some((end) => end !== '' && !isDate(end))) return scope
  const [from, to] = ends.map((end) => (end === '' ? null : end)) as [string | null, string | null]
  if (from !== null && to !== null && from > to) {
    problem(`${from} comes after ${to}.`)
    return scope
  }
  return withUnlessHollow(scope, { part: 'when', exclude, span: { span: 'days', from, to, zone }, effective }, problem)
}

function withUnlessHollow(scope: Scope, part: Parameters<typeof withPart>[1], problem: Complain): Scope {
  if (!isHollow(part)) return withPart(scope, part)
  problem('This part names nothing.')
  return scope
}
