import { GB } from 'chrono-node/en'
import { addDays, isDate, wallClock } from '../time/zone.ts'
import {
  isHollow,
  type ClockPart,
  type HeldTest,
  type Scope,
  type Span,
  type ValueTest,
  type WhoGroup,
} from './model.ts'
import { groupWords } from './sentence.ts'
import { type Entry, type Meaning, type WordVocabulary, alike, distinct, entriesOf } from './word-entries.ts'
import { daysOf, presetSpan } from './word-times.ts'
import { valueAt, wordForm } from './word-values.ts'
import { withHeld } from './url.ts'

export interface WordContext {
  nowMs: number
  zone: string
}

/** A stretch of the typed text and what became of it. `from` and `to` are places in the text, `to` not included. */
export interface WordPiece {
  from: number
  to: number
  state: 'understood' | 'guessed' | 'ambiguous' | 'unknown'
  /** What it was taken for, or the choices. */
  meaning: readonly string[]
}

export interface ReadWords {
  scope: Scope
  pieces: WordPiece[]
}

interface Token {
  word: string
  from: number
  to: number
}

/** Stands in the place of what was understood already, so that no name reaches over it. */
const taken = '\u0001'

/** Words that join others and narrow nothing by themselves. */
const joining = new Set(
  'a all an and any anyone anything are at been before by change changes did do edits every everything for from had has have in into is it its made of on or since show that the their them there these this those through to tracked up until via was were when where which who with'.split(
    ' ',
  ),
)

/**
 * Reads a scope typed as plain words, the same way every time: names against what exists, slips of one or two letters
 * forgiven, dates by a library. What was not understood, and what could mean several things, is said by its place and
 * adds nothing to the scope.
 */
export function readWords(text: string, vocabulary: WordVocabulary, context: WordContext): ReadWords {
  const reader = new Reader(vocabulary)
  let rest = text
  const blank = (from: number, to: number) => (rest = rest.slice(0, from) + taken.repeat(to - from) + rest.slice(to))
  for (const [from, to] of reader.takeHeld(rest)) blank(from, to)
  for (const [from, to] of reader.takeValues(rest)) blank(from, to)
  for (const [from, to] of reader.takeJoined(rest)) blank(from, to)
  for (const [from, to] of reader.takeClock(rest, context)) blank(from, to)
  for (const [from, to] of reader.takeDates(rest, context)) blank(from, to)
  reader.takeNames(rest)
  reader.pieces.sort((a, b) => a.from - b.from)
  return { scope: reader.scope(), pieces: reader.pieces }
}

class Reader {
  readonly pieces: WordPiece[] = []
  readonly #entries: readonly Entry[]
  /** Which type each field belongs to. */
  readonly #typeOf: ReadonlyMap<number, number>
  readonly #meanings: { meaning: Meaning; exclude: boolean }[] = []
  readonly #tests: ValueTest[] = []
  #held: HeldTest[] = []
  #when: Span | null = null
  #clock: ClockPart | null = null
  #effective = false
  readonly #vocabulary: WordVocabulary
  constructor(vocabulary: WordVocabulary) {
    this.#vocabulary = vocabulary
    this.#entries = entriesOf(vocabulary)
    this.#typeOf = new Map(vocabulary.fields.map((field) => [field.id, field.typeId]))
  }

  #understood(from: number, to: number, ...meaning: string[]): void {
    this.pieces.push({ from, to, state: 'understood', meaning })
  }

  /** What the record held or holds: "whose officer was Ishbel Coombe", "whose status is now void or let". @returns places taken. */
  takeHeld(text: string): [number, number][] {
    const places: [number, number][] = []
    for (const { index, 0: said, 1: name, 2: verb } of text.matchAll(
      /\bwhose\s+([\p{L}\p{N}][^"“”,;]{0,80}?)\s+(was|were|is now|are now|is|are)\s+/giu,
    )) {
      // What stands in the place of a value is no condition of its own.
      if (places.some(([, to]) => index < to)) continue
      const start = index + said.length
      const fields = this.#fieldsCalled(name!, text)
      const values: (string | null)[] = []
      const meant: string[] = []
      let [at, state]: [number, WordPiece['state']] = [start, 'understood']
      for (let joint = 0; ;) {
        const value = valueAt(text.slice(at + joint), this.#called(fields))
        if (!value) break
        at += joint + value.length
        values.push(...value.values)
        meant.push(...value.meant)
        if (value.values.length !== 1) state = value.values.length === 0 ? 'unknown' : 'ambiguous'
        joint = /^\s*,?\s*or\s+/i.exec(text.slice(at))?.[0].length ?? 0
        if (joint === 0) break
      }
      if (fields.length !== 1) state = fields.length === 0 ? 'unknown' : 'ambiguous'
      const now = /^(is|are)/i.test(verb!)
      const [field] = fields
      const place: [number, number] = [index, Math.max(at, start)]
      if (state === 'understood' && field && values.length > 0) {
        this.#held = withHeld(this.#held, { fieldId: field.id, now, values })
        this.#understood(...place, `${field.name} ${now ? 'is now' : 'was'} ${meant.join(' or ')}`)
      } else
        this.pieces.push({
          from: place[0],
          to: place[1],
          state: state === 'ambiguous' ? 'ambiguous' : 'unknown',
          meaning: state !== 'ambiguous' ? [] : fields.length > 1 ? fields.map((one) => this.#named(one)) : meant,
        })
      places.push(place)
    }
    return places
  }

  #named({ typeId, name }: WordVocabulary['fields'][number]): string {
    const type = this.#vocabulary.types.find(({ id }) => id === typeId)
    return type ? `${name} of ${type.plural}` : name
  }

  /** Fields of a name; of several those of the types that the text names. */
  #fieldsCalled(name: string, text: string): WordVocabulary['fields'] {
    const words = name.toLowerCase().match(wordForm) ?? []
    const own = this.#entries.filter(({ meaning }) => meaning.means === 'field')
    const exact = own.filter((entry) => entry.words.join(' ') === words.join(' '))
    const near = own.filter((entry) => !entry.part && entry.words.length === words.length && alike(entry.words, words))
    const ids = new Set(
      distinct(exact.length > 0 ? exact : near).flatMap(({ meaning }) =>
        meaning.means === 'field' ? [meaning.id] : [],
      ),
    )
    const fields = this.#vocabulary.fields.filter(({ id }) => ids.has(id))
    if (fields.length < 2) return fields
    const said = text.toLowerCase()
    const types = this.#vocabulary.types.filter((type) => [type.name, type.plural].some((word) => said.includes(word)))
    const narrowed = fields.filter(({ typeId }) => types.some(({ id }) => id === typeId))
    return narrowed.length > 0 ? narrowed : fields
  }

  /** What records are called that a field refers to; null where it refers to none, or to more than are known here. */
  #called(fields: WordVocabulary['fields']): readonly { value: string; label: string }[] | null {
    const type = fields[0]?.refersTo ?? null
    const own = type === null ? [] : (this.#vocabulary.called ?? []).filter(({ typeId }) => typeId === type)
    return own.length > 0 ? own : null
  }

  /** Conditions on values: rises and falls, quoted words, and what a value was or became. @returns places taken. */
  takeValues(text: string): [number, number][] {
    const places: [number, number][] = []
    const take = (match: RegExpExecArray, test: ValueTest, meaning: string) => {
      this.#tests.push(test)
      this.#understood(match.index, match.index + match[0].length, meaning)
      places.push([match.index, match.index + match[0].length])
    }
    for (const match of text.matchAll(
      /\b(rose|risen|fell|fallen)\b(?:\s+by)?\s+(?:more\s+than|over|above)\s+(\d+(?:\.\d+)?)\s*(%|percent|per cent)?/gi,
    )) {
      const rose = match[1]!.toLowerCase().startsWith('r')
      const percent = match[3] !== undefined
      take(
        match as RegExpExecArray,
        { test: rose ? 'rose' : 'fell', by: match[2]!, percent },
        `${rose ? 'rose' : 'fell'} by more than ${match[2]}${percent ? ' %' : ''}`,
      )
    }
    for (const match of text.matchAll(
      /\b(from|to)\s+(nothing\b|["“]([^"”]*)["”]|-?\d+(?:\.\d+)?(?![\d/-])(?!\s+(?:(?:to|until)\s+\d{1,2}(?:st|nd|rd|th)?\s+[a-z]{3,}|january|february|march|april|may|june|july|august|september|october|november|december|jan|feb|mar|apr|jun|jul|aug|sep|sept|oct|nov|dec)\b))/gi,
    )) {
      const value = match[2]!.toLowerCase() === 'nothing' ? null : (match[3] ?? match[2]!)
      const side = match[1]!.toLowerCase() === 'from' ? 'from' : 'to'
      if (places.some(([from, to]) => match.index < to && match.index + match[0].length > from)) continue
      take(match as RegExpExecArray, { test: side, value }, `${side} ${value === null ? 'nothing' : `“${value}”`}`)
    }
    for (const match of text.matchAll(/["“]([^"”]+)["”]/g)) {
      if (places.some(([from, to]) => match.index >= from && match.index < to)) continue
      take(match as RegExpExecArray, { test: 'contains', text: match[1]! }, `“${match[1]}” in a value`)
    }
    return places
  }

  /** Hours of the day and days of the week. @returns places taken. */
  takeClock(text: string, { zone }: WordContext): [number, number][] {
    const places: [number, number][] = []
    const take = (
      { 0: said, index }: RegExpExecArray,
      part: Partial<Pick<ClockPart, 'hours' | 'weekdays'>>,
      meaning: string,
    ) => {
      this.#clock = { part: 'clock', exclude: false, hours: [], weekdays: [], zone, ...this.#clock, ...part }
      this.#understood(index, index + said.length, meaning)
      places.push([index, index + said.length])
    }
    const days = /\b(?:at|on|during)\s+(?:the\s+)?(weekends?|weekdays|working days)\b/i.exec(text)
    if (days)
      take(
        days,
        { weekdays: days[1]!.toLowerCase().startsWith('weekend') ? [6, 7] : [1, 2, 3, 4, 5] },
        days[1]!.toLowerCase().startsWith('weekend') ? 'on Saturdays and Sundays' : 'on Mondays to Fridays',
      )
    const hours = /\b(?:between|from)\s+(\d{1,2}):00\s+(?:and|to|until)\s+(\d{1,2}):00/i.exec(text)
    const [from, to] = [Number(hours?.[1]), Number(hours?.[2])]
    if (hours && from < 24 && to <= 24 && from !== to % 24) {
      const length = (to - from + 24) % 24
      const on = Array.from({ length }, (_, hour) => (from + hour) % 24)
      take(hours, { hours: on }, `from ${from}:00 to ${to}:00 each day`)
    }
    return places
  }

  /** One spell of time, and whether it is meant of the day of effect. @returns places taken. */
  takeDates(text: string, context: WordContext): [number, number][] {
    const places = this.#takeSpell(text, context)
    const effect = /\b(?:effective|taking effect|in effect|with effect)\b/i.exec(text)
    if (effect && this.#when && this.#when.span !== 'look') {
      this.#effective = true
      this.#understood(effect.index, effect.index + effect[0].length, 'by the day of effect')
      places.push([effect.index, effect.index + effect[0].length])
    }
    return places
  }

  /** "Who joined in the last 3 months" says who, and not when. @returns places taken. */
  takeJoined(text: string): [number, number][] {
    const match = /\b(?:who(?:ever)?\s+)?joined\s+(?:in|within)\s+the\s+last\s+(\d{1,2})\s+months?\b/i.exec(text)
    if (!match || Number(match[1]) === 0) return []
    const group: WhoGroup = { group: 'joined', months: Number(match[1]) }
    this.#meanings.push({ meaning: { means: 'group', group }, exclude: /\bbut\s+$/i.test(text.slice(0, match.index)) })
    this.#understood(match.index, match.index + match[0].length, groupWords(group))
    return [[match.index, match.index + match[0].length]]
  }

  /** One spell of time; a second is left to be said as not understood. @returns places taken. */
  #takeSpell(text: string, { nowMs, zone }: WordContext): [number, number][] {
    const today = wallClock(nowMs, zone).date
    const places: [number, number][] = []
    const take = (from: number, length: number, span: Span, meaning: string) => {
      this.#when = span
      this.#understood(from, from + length, meaning)
      places.push([from, from + length])
    }
    const look = /\bsince (?:i|my) last (?:looked|look|visit)\b/i.exec(text)
    if (look) {
      take(look.index, look[0].length, { span: 'look', zone }, 'since you last looked')
      return places
    }
    const last = /\b(?:in|over|within)?\s*(?:the\s+)?(?:last|past)\s+(\d{1,4})\s+days?\b/i.exec(text)
    if (last && Number(last[1]) > 0) {
      take(last.index, last[0].length, { span: 'last', days: Number(last[1]), zone }, `the last ${last[1]} days`)
      return places
    }
    const preset = presetSpan(text, today, zone)
    if (preset) {
      take(preset.from, preset.length, preset.span, preset.meaning)
      return places
    }
    const [found] = GB.parse(text, { instant: new Date(nowMs), timezone: 0 }, { forwardDate: false })
    // A bare number or a bare hour is no date that anybody means here.
    if (
      !found ||
      !(found.start.isCertain('day') || found.start.isCertain('month') || found.start.isCertain('weekday')) ||
      /^\d+$/.test(found.text.trim())
    )
      return places
    const [from, to] = daysOf(found)
    if (!isDate(from) || !isDate(to)) return places
    const lead = /\b(since|from|after|before|until|till|up to|on|in|between)\s+$/i.exec(text.slice(0, found.index))
    const word = lead?.[1]?.toLowerCase() ?? ''
    const span = (first: string | null, end: string | null): Span => ({ span: 'days', from: first, to: end, zone })
    const ended = found.end !== null && found.end !== undefined
    const spell = ended
      ? span(from, to)
      : ['since', 'from'].includes(word)
        ? span(from, null)
        : word === 'after'
          ? span(addDays(to, 1), null)
          : word === 'before'
            ? span(null, addDays(from, -1))
            : ['until', 'till', 'up to'].includes(word)
              ? span(null, to)
              : span(from, to)
    const start = lead ? lead.index : found.index
    take(start, found.index + found.text.trimEnd().length - start, spell, from === to ? from : `${from} to ${to}`)
    return places
  }

  /** Names, longest first, with the words between them. */
  takeNames(text: string): void {
    const tokens: Token[] = [...text.matchAll(/[\p{L}\p{N}][\p{L}\p{N}'’._-]*/gu)].map((match) => ({
      word: match[0].toLowerCase(),
      from: match.index,
      to: match.index + match[0].length,
    }))
    let exclude = false
    for (let at = 0; at < tokens.length;) {
      const hit = this.#longest(text, tokens, at)
      if (!hit) {
        const token = tokens[at]!
        if (!joining.has(token.word))
          this.pieces.push({ from: token.from, to: token.to, state: 'unknown', meaning: [] })
        at++
        continue
      }
      const [from, to] = [tokens[at]!.from, tokens[at + hit.length - 1]!.to]
      at += hit.length
      const [first, ...others] = hit.entries
      if (
        others.length > 0 &&
        !hit.entries.every((entry) => entry.meaning.means === first!.meaning.means && first!.meaning.means === 'field')
      ) {
        this.pieces.push({ from, to, state: 'ambiguous', meaning: hit.entries.map((entry) => entry.said) })
        continue
      }
      if (first!.meaning.means === 'not') {
        exclude = true
        this.#understood(from, to, 'everything but')
        continue
      }
      // One name of a field that several types have means the field of each of them.
      for (const entry of hit.entries) this.#meanings.push({ meaning: entry.meaning, exclude })
      exclude = false
      this.pieces.push({
        from,
        to,
        state: hit.exact ? 'understood' : 'guessed',
        meaning: [hit.entries.length > 1 ? `${hit.entries.length} fields` : first!.said],
      })
    }
  }

  #longest(
    text: string,
    tokens: readonly Token[],
    at: number,
  ): { entries: Entry[]; length: number; exact: boolean } | null {
    let most = 1
    while (most < 6 && tokens[at + most] && !text.slice(tokens[at]!.to, tokens[at + most]!.from).includes(taken)) most++
    for (let length = most; length > 0; length--) {
      const words = tokens.slice(at, at + length).map((token) => token.word)
      const exact = this.#entries.filter(
        (entry) => entry.words.length === length && entry.words.every((word, n) => word === words[n]),
      )
      if (exact.length > 0) {
        const entries = distinct(exact)
        return { entries, length, exact: !entries[0]!.part }
      }
    }
    for (let length = most; length > 0; length--) {
      const words = tokens.slice(at, at + length).map((token) => token.word)
      if (length === 1 && joining.has(words[0]!)) continue
      const near = this.#entries.filter(
        (entry) => !entry.part && entry.words.length === length && alike(entry.words, words),
      )
      if (near.length > 0) return { entries: distinct(near), length, exact: false }
    }
    return null
  }

  scope(): Scope {
    const of = <M extends Meaning['means']>(means: M) =>
      this.#meanings.filter((one) => one.meaning.means === means) as {
        meaning: Extract<Meaning, { means: M }>
        exclude: boolean
      }[]
    const some = (list: readonly { exclude: boolean }[]) => list.length > 0 && list.some((one) => one.exclude)
    const [actors, kinds, groups, types, fields] = [of('actor'), of('kind'), of('group'), of('type'), of('field')]
    const among = groups.length > 0 ? { groups: groups.map((one) => one.meaning.group) } : {}
    // "Rent of tenancies" means that field of that type, not the field and everything else of the type.
    const typeIds = types.map((one) => one.meaning.id)
    const named = fields.map((one) => one.meaning)
    const narrowed = named.filter((field) => typeIds.includes(this.#typeOf.get(field.id) ?? -1))
    const chosen = narrowed.length > 0 ? narrowed : named
    const covered = new Set(chosen.map((field) => this.#typeOf.get(field.id)))
    const scope: Record<string, Scope[keyof Scope]> = {
      who: {
        part: 'who',
        exclude: some([...actors, ...kinds, ...groups]),
        actors: unique(actors.map((one) => one.meaning.id)),
        kinds: unique(kinds.map((one) => one.meaning.kind)),
        ...among,
      },
      what: {
        part: 'what',
        exclude: some([...types, ...fields]),
        types: unique(typeIds.filter((id) => !covered.has(id))),
        fields: unique(chosen.map((field) => field.id)),
      },
      how: {
        part: 'how',
        exclude: some([...of('action'), ...of('channel')]),
        actions: unique(of('action').map((one) => one.meaning.action)),
        channels: unique(of('channel').map((one) => one.meaning.channel)),
        runs: [],
      },
      value: { part: 'value', exclude: false, tests: this.#tests },
      holds: { part: 'holds', exclude: false, tests: this.#held },
      state: {
        part: 'state',
        exclude: of('state').some((one) => one.meaning.exclude || one.exclude),
        states: unique(of('state').map((one) => one.meaning.state)),
        stories: [],
      },
    }
    const reason = of('reason').at(-1)
    if (reason) scope['reason'] = { part: 'reason', exclude: !reason.meaning.given, contains: null }
    if (this.#when) scope['when'] = { part: 'when', exclude: false, span: this.#when, effective: this.#effective }
    if (this.#clock) scope['clock'] = this.#clock
    return Object.fromEntries(Object.entries(scope).filter(([, part]) => part && !isHollow(part))) as Scope
  }
}

function unique<T>(list: readonly T[]): T[] {
  return [...new Set(list)]
}
