import { distance } from 'fastest-levenshtein'
import { groupWords } from './sentence.ts'
import { actorKinds, type ActorKind, type ChangeState, type ScopeAction, type WhoGroup } from './model.ts'

/** What words can mean here: the names that exist. */
export interface WordVocabulary {
  actors: readonly { id: number; name: string; kind: ActorKind }[]
  types: readonly { id: number; name: string; plural: string }[]
  fields: readonly { id: number; typeId: number; name: string; refersTo?: number | null }[]
  /** What records are called that values of reference fields point to, by the type of these records. */
  called?: readonly { typeId: number; value: string; label: string }[]
  channels: readonly string[]
  /** Units of the staff list. */
  units: readonly string[]
}

export type Meaning =
  | { means: 'actor'; id: number }
  | { means: 'kind'; kind: ActorKind }
  | { means: 'group'; group: WhoGroup }
  | { means: 'type'; id: number }
  | { means: 'field'; id: number }
  | { means: 'action'; action: ScopeAction }
  | { means: 'channel'; channel: string }
  | { means: 'state'; state: ChangeState; exclude: boolean }
  | { means: 'reason'; given: boolean }
  | { means: 'not' }

export interface Entry {
  words: string[]
  meaning: Meaning
  said: string
  /** A part of a name, which counts where nothing is called so. */
  part?: true
}

/** The last word of a field's name says which is meant only where it is a word of some length. */
const leastLetters = 4

const fixed: readonly [string, Meaning][] = [
  ['people', { means: 'kind', kind: 'person' }],
  ['persons', { means: 'kind', kind: 'person' }],
  ['imports', { means: 'kind', kind: 'import' }],
  ['jobs', { means: 'kind', kind: 'job' }],
  ['scheduled jobs', { means: 'kind', kind: 'job' }],
  ['integrations', { means: 'kind', kind: 'integration' }],
  ['delegates', { means: 'kind', kind: 'delegate' }],
  ['support delegates', { means: 'kind', kind: 'delegate' }],
  ['unknown', { means: 'kind', kind: 'unknown' }],
  ['unknown actors', { means: 'kind', kind: 'unknown' }],
  ['created', { means: 'action', action: 'create' }],
  ['added', { means: 'action', action: 'create' }],
  ['new', { means: 'action', action: 'create' }],
  ['changed', { means: 'action', action: 'change' }],
  ['deleted', { means: 'action', action: 'delete' }],
  ['restored', { means: 'action', action: 'restore' }],
  ['removed', { means: 'action', action: 'delete' }],
  ['reviewed', { means: 'state', state: 'reviewed', exclude: false }],
  ['unreviewed', { means: 'state', state: 'reviewed', exclude: true }],
  ['not reviewed', { means: 'state', state: 'reviewed', exclude: true }],
  ['not yet reviewed', { means: 'state', state: 'reviewed', exclude: true }],
  ['flagged', { means: 'state', state: 'flagged', exclude: false }],
  ['asked', { means: 'state', state: 'asked', exclude: false }],
  ['asked about', { means: 'state', state: 'asked', exclude: false }],
  ['answered', { means: 'state', state: 'answered', exclude: false }],
  ['assigned', { means: 'state', state: 'assigned', exclude: false }],
  ['set back', { means: 'state', state: 'reverted', exclude: false }],
  ['reverted', { means: 'state', state: 'reverted', exclude: false }],
  ['corrections', { means: 'state', state: 'correction', exclude: false }],
  ['without a reason', { means: 'reason', given: false }],
  ['without reason', { means: 'reason', given: false }],
  ['no reason', { means: 'reason', given: false }],
  ['with a reason', { means: 'reason', given: true }],
  ['with reason', { means: 'reason', given: true }],
  ['anyone but', { means: 'not' }],
  ['anything but', { means: 'not' }],
  ['everyone but', { means: 'not' }],
  ['everything but', { means: 'not' }],
  ['except', { means: 'not' }],
  ['but', { means: 'not' }],
  ['but not', { means: 'not' }],
  ['not', { means: 'not' }],
  ['not by', { means: 'not' }],
]

const newMonths = 6
const groups: readonly [string, WhoGroup][] = [
  ...['me', 'myself'].map((text) => [text, { group: 'me' }] as [string, WhoGroup]),
  ...['leavers', 'who left', 'who have left', 'whoever has left', 'former staff'].map(
    (text) => [text, { group: 'left' }] as [string, WhoGroup],
  ),
  ...['joiners', 'newcomers', 'new people', 'new staff'].map(
    (text) => [text, { group: 'joined', months: newMonths }] as [string, WhoGroup],
  ),
]

export function entriesOf({ actors, types, fields, channels, units }: WordVocabulary): Entry[] {
  const split = (text: string) => text.toLowerCase().match(/[\p{L}\p{N}][\p{L}\p{N}'’._-]*/gu) ?? []
  const entry = (text: string, meaning: Meaning, said = text): Entry[] => {
    const words = split(text)
    return words.length > 0 ? [{ words, meaning, said }] : []
  }
  return [
    ...fixed.flatMap(([text, meaning]) => entry(text, meaning)),
    ...types.flatMap(({ id, name, plural }) => [
      ...entry(plural, { means: 'type', id }),
      ...(name === plural ? [] : entry(name, { means: 'type', id }, plural)),
    ]),
    ...fields.flatMap(({ id, name }) => entry(name, { means: 'field', id })),
    // "Rent" means the weekly and the monthly rent, when no field is called rent.
    ...fields.flatMap(({ id, name }): Entry[] => {
      const words = split(name)
      // "Officer" means the officer id.
      if (words.length > 1 && words.at(-1) === 'id')
        return [{ words: words.slice(0, -1), meaning: { means: 'field', id }, said: name, part: true }]
      const last = words.at(-1)
      if (last === undefined || words.length < 2 || last.length < leastLetters) return []
      return [{ words: [last], meaning: { means: 'field', id }, said: name, part: true }]
    }),
    ...actors.flatMap(({ id, name }) => entry(name, { means: 'actor', id })),
    // One word of a person's name will do; when several have it, they are named to choose from.
    ...actors
      .filter((actor) => actor.kind === 'person' && split(actor.name).length > 1)
      .flatMap(({ id, name }) =>
        split(name).map((word) => ({ words: [word], meaning: { means: 'actor' as const, id }, said: name })),
      ),
    ...groups.flatMap(([text, group]) => entry(text, { means: 'group', group }, groupWords(group))),
    ...units.flatMap((unit) => entry(unit, { means: 'group', group: { group: 'unit', unit } })),
    ...channels.flatMap((channel) => entry(channel, { means: 'channel', channel })),
  ]
}

/** Longer words may be mistyped in two letters, middling ones in one, short ones in none. */
export function alike(wanted: readonly string[], typed: readonly string[]): boolean {
  let slips = 0
  for (const [n, word] of wanted.entries()) {
    const by = word === typed[n] ? 0 : distance(word, typed[n]!)
    const allowed = word.length >= 8 ? 2 : word.length >= 5 ? 1 : 0
    if (by > allowed) return false
    slips += by
  }
  return slips > 0
}

/** One name may stand for a thing in two ways, as one and as many; what is called so comes before what is in part. */
export function distinct(entries: readonly Entry[]): Entry[] {
  const whole = entries.filter((entry) => !entry.part)
  const meant = whole.length > 0 ? whole : entries
  return [...new Map(meant.map((entry) => [JSON.stringify(entry.meaning), entry])).values()]
}

/** Kinds of actor are known by more than one word; a test holds that every kind has one. */
export const kindsWithWords: ReadonlySet<ActorKind> = new Set(
  actorKinds.filter((kind) => fixed.some(([, meaning]) => meaning.means === 'kind' && meaning.kind === kind)),
)
