import { isDate, isZone } from '../time/zone.ts'
import { actorKinds, isHollow, withPart, type ActorKind, type RecordRef, type Scope, type Span } from './model.ts'

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
/** Before a record whose lines are not meant. */
const alone = 'alone.'
const maxMembers = 1000
const maxSpanDays = 36_600

/** The scope as parameters of a link, in a fixed order; {@link parseScope} gives the same scope back. */
export function scopeEntries(scope: Scope): [string, string][] {
  const entries: [string, string][] = []
  const add = (name: string, exclude: boolean, text: string) => entries.push([name, (exclude ? '!' : '') + text])
  const { what, record, who, when } = scope
  if (what)
    add(
      'what',
      what.exclude,
      [...what.types.map((id) => `t${id}`), ...what.fields.map((id) => `f${id}`)].join(listSeparator),
    )
  if (record)
    for (const { typeId, key } of record.records)
      add('record', record.exclude, `${record.lines ? '' : alone}t${typeId}:${key}`)
  if (who)
    add(
      'who',
      who.exclude,
      [...who.actors.map((id) => `a${id}`), ...who.kinds.map((k) => `k.${k}`)].join(listSeparator),
    )
  if (when) add('when', when.exclude, spanText(when.span))
  return entries
}

function spanText(span: Span): string {
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
    if (name !== 'record' && seen.has(name)) {
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
      case 'when':
        scope = readWhen(scope, text, exclude, problem)
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

function idAfter(letter: string, member: string): number | null {
  if (!member.startsWith(letter) || !/^\d{1,9}$/.test(member.slice(letter.length))) return null
  return Number(member.slice(letter.length))
}

function readWho(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const actors: number[] = []
  const kinds: ActorKind[] = []
  for (const member of members(text, problem)) {
    const actor = idAfter('a', member)
    const kind = actorKinds.find((k) => member === `k.${k}`)
    if (actor !== null) actors.push(actor)
    else if (kind) kinds.push(kind)
    else problem(`“${member}” is neither an actor nor a kind of actor.`)
  }
  return withUnlessHollow(scope, { part: 'who', exclude, actors, kinds }, problem)
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

/** A record's key in its one written form, or null when the text is not a key: a JSON list of texts. */
export function canonicalKey(text: string): string | null {
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

function readWhen(scope: Scope, text: string, exclude: boolean, problem: Complain): Scope {
  const at = text.lastIndexOf('@')
  const zone = text.slice(at + 1)
  const days = text.slice(0, Math.max(at, 0))
  if (at < 0 || !isZone(zone)) {
    problem(`The time zone “${at < 0 ? '' : zone}” is not known; a date means nothing without one.`)
    return scope
  }
  const last = /^last(\d{1,5})d$/.exec(days)
  if (last) {
    const n = Number(last[1])
    if (n >= 1 && n <= maxSpanDays)
      return withPart(scope, { part: 'when', exclude, span: { span: 'last', days: n, zone } })
    problem(`“last ${n} days” is outside 1 to ${maxSpanDays} days.`)
    return scope
  }
  const ends = days.split('..')
  if (ends.length !== 2) {
    problem('This is not a spell of days.')
    return scope
  }
  for (const end of ends) if (end !== '' && !isDate(end)) problem(`“${end}” is not a date.`)
  if (ends.some((end) => end !== '' && !isDate(end))) return scope
  const [from, to] = ends.map((end) => (end === '' ? null : end)) as [string | null, string | null]
  if (from !== null && to !== null && from > to) {
    problem(`${from} comes after ${to}.`)
    return scope
  }
  return withUnlessHollow(scope, { part: 'when', exclude, span: { span: 'days', from, to, zone } }, problem)
}

function withUnlessHollow(scope: Scope, part: Parameters<typeof withPart>[1], problem: Complain): Scope {
  if (!isHollow(part)) return withPart(scope, part)
  problem('This part names nothing.')
  return scope
}
