import { capitalised, listed } from '../words/list.ts'
import type { ActorKind, PartName, RecordRef, Scope, Span } from './model.ts'

/** The names a sentence needs. What is not known is named by its number, never left out. */
export interface ScopeNames {
  actor(id: number): string | undefined
  /** Plural, lower case: "tenancies". */
  type(id: number): string | undefined
  field(id: number): { name: string; typeId: number } | undefined
  record(ref: RecordRef): string | undefined
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
  pieces.push(words(' by '), part('who', whoText(scope, names)))
  pieces.push(words(', '), part('when', whenText(scope)), words('.'))
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

function whoText({ who }: Scope, names: ScopeNames): string {
  if (!who) return 'anyone'
  const text = listed(
    [...who.actors.map((id) => names.actor(id) ?? `actor ${id}`), ...who.kinds.map((kind) => kindPlural[kind])],
    who.exclude ? 'and' : 'or',
  )
  return who.exclude ? `anyone but ${text}` : text
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

function whenText({ when }: Scope): string {
  if (!when) return 'at any time'
  return `${when.exclude ? 'except ' : ''}${spanWords(when.span)} (${when.span.zone})`
}

function spanWords(span: Span): string {
  if (span.span === 'last') return span.days === 1 ? 'today' : `in the last ${span.days} days`
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
