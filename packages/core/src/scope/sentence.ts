import { daysWords } from '../time/weekday.ts'
import { wallClock } from '../time/zone.ts'
import { capitalised, counted, listed } from '../words/list.ts'
import { assertNever } from '../words/assert-never.ts'
import { groupBy } from '../words/group.ts'
import {
  casesOf,
  groupsOf,
  transactionsOf,
  type ActorKind,
  type ChangeState,
  type ClockPart,
  type HoldsPart,
  type PartName,
  type RecordRef,
  type Scope,
  type ScopeAction,
  type Span,
  type ValueTest,
  type WhoGroup,
} from './model.ts'

/** The names a sentence needs. What is not known is named by its number, never left out. */
export interface ScopeNames {
  actor(id: number): string | undefined
  /** Plural, lower case: "tenancies". */
  type(id: number): string | undefined
  field(id: number): { name: string; typeId: number } | undefined
  record(ref: RecordRef): string | undefined
  run(id: number): string | undefined
  /** What the record is called that a value of a field points to. */
  held?(fieldId: number, value: string): string | undefined
  /** What stands out in a story, as its headline. */
  story?(id: number): string | undefined
  /** The question that a case is about. */
  case?(id: number): string | undefined
  /** When the reader's last visit ended, as an instant, where it is known. */
  lookedAt?: string
}

/** Either plain words, or a part that can be pressed. */
export type SentencePiece =
  | { piece: 'words'; text: string }
  | {
      piece: 'part'
      part: PartName
      text: string
      /** False for what stands where a part is absent ("anyone"). */
      narrows: boolean
      exclude: boolean
    }

export const kindPlural: Readonly<Record<ActorKind, string>> = {
  person: 'people',
  import: 'imports',
  job: 'scheduled jobs',
  integration: 'integrations',
  delegate: 'support delegates',
  unknown: 'unknown actors',
}

/** The scope as one exact sentence; joined by {@link sentenceText} it is the cover text of a pack, word for word. */
export function sentence(scope: Scope, names: ScopeNames): SentencePiece[] {
  const words = (text: string): SentencePiece => ({ piece: 'words', text })
  const part = (name: PartName, text: string): SentencePiece => ({
    piece: 'part',
    part: name,
    text,
    narrows: scope[name] !== undefined,
    exclude: scope[name]?.exclude ?? false,
  })
  const pieces = [words('Changes to '), part('what', whatText(scope, names))]
  if (scope.record) pieces.push(words(' on '), part('record', recordText(scope, names)))
  if (scope.holds) pieces.push(words(scope.record ? ', on ' : ' on '), part('holds', holdsText(scope.holds, names)))
  if (scope.value) pieces.push(words(' '), part('value', valueText(scope)))
  pieces.push(words(' by '), part('who', whoText(scope, names)))
  if (scope.how) pieces.push(words(', '), part('how', howText(scope, names)))
  if (scope.reason) pieces.push(words(', '), part('reason', reasonText(scope)))
  pieces.push(words(', '), part('when', whenText(scope, names)))
  if (scope.clock) pieces.push(words(', '), part('clock', clockText(scope.clock)))
  if (scope.state) pieces.push(words(', '), part('state', stateText(scope, names)))
  pieces.push(words('.'))
  return pieces
}

export function sentenceText(pieces: readonly SentencePiece[]): string {
  return capitalised(pieces.map((piece) => piece.text).join(''))
}

function whatText({ what }: Scope, names: ScopeNames): string {
  if (!what) return 'anything tracked'
  const byType = new Map<number | null, string[]>()
  for (const id of what.fields) {
    const field = names.field(id)
    const group = byType.get(field?.typeId ?? null) ?? []
    group.push(field?.name ?? `field ${id}`)
    byType.set(field?.typeId ?? null, group)
  }
  const groups = [...byType].map(([typeId, fields]) =>
    typeId === null ? listed(fields) : `${listed(fields)} of ${typeText(typeId, names)}`,
  )
  const text = listed([...what.types.map((id) => typeText(id, names)), ...groups])
  return what.exclude ? `anything but ${text}` : text
}

function typeText(id: number, names: ScopeNames): string {
  return names.type(id) ?? `record type ${id}`
}

function recordText({ record }: Scope, names: ScopeNames): string {
  const refs = record?.records ?? []
  const text = listed(refs.map((ref) => names.record(ref) ?? `record ${ref.key} of ${typeText(ref.typeId, names)}`))
  const whole = refs.length === 1 ? 'itself' : 'themselves'
  return `${record?.exclude ? 'any record but ' : ''}${text}${record?.lines ? '' : ` ${whole}, without lines`}`
}

function holdsText({ tests, exclude }: HoldsPart, names: ScopeNames): string {
  const ofType = groupBy(tests, ({ fieldId }) => names.field(fieldId)?.typeId ?? null)
  const texts = [...ofType].map(([typeId, own]) => {
    const held = own.map(({ fieldId, now, values }) => {
      const field = names.field(fieldId)?.name ?? `field ${fieldId}`
      const text = listed(
        values.map((value) => quoted((value === null ? null : names.held?.(fieldId, value)) ?? value)),
        'or',
      )
      return `${field} ${now ? 'is now' : 'was'} ${text}`
    })
    return `${typeId === null ? 'records' : typeText(typeId, names)} whose ${held.join(' and whose ')}`
  })
  return `${exclude ? 'anything but ' : ''}${texts.join(' and on ')}`
}

function whoText({ who }: Scope, names: ScopeNames): string {
  if (!who) return 'anyone'
  const text = listed(
    [
      ...groupsOf(who).map(groupWords),
      ...who.actors.map((id) => names.actor(id) ?? `actor ${id}`),
      ...who.kinds.map((kind) => kindPlural[kind]),
    ],
    who.exclude ? 'and' : 'or',
  )
  return who.exclude ? `anyone but ${text}` : text
}

/** "anyone of finance". */
export function groupWords(group: WhoGroup): string {
  switch (group.group) {
    case 'me':
      return 'me'
    case 'left':
      return 'whoever has left'
    case 'joined':
      return `whoever joined in the last ${counted(group.months, 'month')}`
    case 'unit':
      return `anyone of ${group.unit}`
    default:
      return assertNever(group)
  }
}

const months = [
  'January',
  'February',
  'March',
  'April',
  'May',
  'June',
  'July',
  'August',
  'September',
  'October',
  'November',
  'December',
]

/** "3 May 2024". */
export function dateText(date: string): string {
  const [year, month, day] = date.split('-')
  return `${Number(day)} ${months[Number(month) - 1]} ${year}`
}

function whenText({ when }: Scope, { lookedAt }: ScopeNames): string {
  if (!when) return 'at any time'
  const effect = when.effective ? 'taking effect ' : ''
  return `${when.exclude ? 'except ' : ''}${effect}${spanWords(when.span, lookedAt)} (${when.span.zone})`
}

const hourText = (hour: number) => `${String(hour % 24).padStart(2, '0')}:00`

/** Hours of the day as spells, one over midnight as one: "22:00 to 06:00". */
function hourSpells(hours: readonly number[]): string[] {
  const on = new Set(hours)
  if (on.size === 24) return ['00:00 to 24:00']
  return [...on]
    .filter((hour) => !on.has((hour + 23) % 24))
    .sort((a, b) => a - b)
    .map((from) => {
      let length = 1
      while (on.has((from + length) % 24)) length++
      return `${hourText(from)} to ${hourText(from + length)}`
    })
}

function clockText({ hours, weekdays, zone, exclude }: ClockPart): string {
  const days = weekdays.length > 0 ? [`on ${daysWords(weekdays).replace('each day', 'any day')}`] : []
  const spells = hours.length > 0 ? [`from ${listed(hourSpells(hours), 'or')}`] : []
  return `${exclude ? 'except ' : ''}${[...days, ...spells].join(' ')} (${zone})`
}

function spanWords(span: Span, lookedAt: string | undefined): string {
  if (span.span === 'look') {
    if (lookedAt === undefined) return 'since I last looked'
    const { date, time } = wallClock(Date.parse(lookedAt), span.zone)
    return `since I last looked, ${dateText(date)} ${time.slice(0, 5)}`
  }
  if (span.span === 'instants' && span.to === null) {
    const { date, time } = wallClock(Date.parse(span.from), span.zone)
    return `from ${dateText(date)} ${time.slice(0, 5)} on`
  }
  if (span.span === 'last') return span.days === 1 ? 'today' : `in the last ${span.days} days`
  if (span.span === 'instants') {
    const [from, to] = [span.from, span.to!].map((at) => wallClock(Date.parse(at), span.zone))
    const [start, end] = [from!, to!].map(({ time }) => time.slice(0, 5))
    return from!.date === to!.date
      ? `on ${dateText(from!.date)} from ${start} to ${end}`
      : `from ${dateText(from!.date)} ${start} to ${dateText(to!.date)} ${end}`
  }
  if (span.from === null) return span.to === null ? 'at any time' : `up to ${dateText(span.to)}`
  if (span.to === null) return `from ${dateText(span.from)} on`
  if (span.from === span.to) return `on ${dateText(span.from)}`
  const [from, to] = [span.from.split('-'), span.to.split('-')]
  const shared = from[0] !== to[0] ? 0 : from[1] !== to[1] ? 1 : 2
  const start = dateText(span.from)
    .split(' ')
    .slice(0, 3 - shared)
    .join(' ')
  return `from ${start} to ${dateText(span.to)}`
}

const actionWords: Readonly<Record<ScopeAction, string>> = {
  create: 'created',
  change: 'changed',
  delete: 'deleted',
  restore: 'restored',
}

function howText({ how }: Scope, names: ScopeNames): string {
  if (!how) return ''
  const actions =
    how.actions.length > 0
      ? [
          listed(
            how.actions.map((action) => actionWords[action]),
            'or',
          ),
        ]
      : []
  const channels = how.channels.length > 0 ? [`through ${listed([...how.channels], 'or')}`] : []
  const runs =
    how.runs.length > 0
      ? [
          `in ${listed(
            how.runs.map((id) => names.run(id) ?? `run ${id}`),
            'or',
          )}`,
        ]
      : []
  const wholes = transactionsOf(how).map((save) => `the transaction of save ${save}`)
  const transactions = wholes.length > 0 ? [`in ${listed(wholes, 'or')}`] : []
  const text = [...actions, ...channels, ...runs, ...transactions].join(' ')
  return how.exclude ? `not ${text}` : text
}

const quoted = (value: string | null) => (value === null ? 'nothing' : `“${value}”`)

function testText(test: ValueTest): string {
  switch (test.test) {
    case 'from':
      return `from ${quoted(test.value)}`
    case 'to':
      return `to ${quoted(test.value)}`
    case 'contains':
      return `with ${quoted(test.text)} in a value`
    case 'rose':
    case 'fell':
      return `that ${test.test} by more than ${test.by}${test.percent ? ' %' : ''}`
    default:
      return assertNever(test)
  }
}

function valueText({ value }: Scope): string {
  const text = listed((value?.tests ?? []).map(testText))
  return value?.exclude ? `but not ${text}` : text
}

function reasonText({ reason }: Scope): string {
  if (!reason) return ''
  if (reason.contains === null) return reason.exclude ? 'without a reason' : 'with a reason'
  return `${reason.exclude ? 'without' : 'with'} ${quoted(reason.contains)} in the reason`
}

const stateWords: Readonly<Record<ChangeState, string>> = {
  reviewed: 'reviewed',
  flagged: 'flagged',
  asked: 'asked about and not answered',
  answered: 'answered',
  assigned: 'assigned and not done',
  reverted: 'set back',
  correction: 'made by a correction',
}

function stateText({ state }: Scope, names: ScopeNames): string {
  const stories = (state?.stories ?? []).map((id) => `standing out as “${names.story?.(id) ?? `story ${id}`}”`)
  const cases = (state ? casesOf(state) : []).map((id) => {
    const question = names.case?.(id)
    return `gathered in case ${id}${question === undefined ? '' : ` “${question}”`}`
  })
  const text = listed([...(state?.states ?? []).map((one) => stateWords[one]), ...stories, ...cases], 'or')
  return state?.exclude ? `not ${text}` : text
}
