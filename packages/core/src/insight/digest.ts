import { counted, grouped } from '../words/list.ts'
import { withPart, type ActorKind, type Scope } from '../scope/model.ts'
import { kindPlural, type ScopeNames } from '../scope/sentence.ts'
import { inWords } from './words.ts'

/** What was counted of one spell, each with the scope that counts the same. */
export interface DigestFigures {
  /** The spell itself. */
  scope: Scope
  saves: number
  changes: number
  /** Null where there are too many to be counted at once. */
  records: number | null
  kinds: readonly { kind: ActorKind; actors: number; saves: number }[]
  /** The run with the most saves, where it has many. */
  run: { id: number; typeId: number; saves: number } | null
  /** The type with the most saves. */
  type: { id: number; saves: number } | null
  /** Saves of the spells of the same length and days in the weeks before, on average; null with fewer than three. */
  usual: number | null
  /** How many things stand out; null for somebody who is not told. */
  stories: number | null
}

export type DigestPiece =
  | { piece: 'words'; text: string }
  | { piece: 'figure'; text: string; scope: Scope; reading: 'saves' | 'changes' | 'records' }
  | { piece: 'stories'; text: string }

const kindOne: Readonly<Record<ActorKind, string>> = {
  person: 'person',
  import: 'import',
  job: 'scheduled job',
  integration: 'integration',
  delegate: 'support delegate',
  unknown: 'unknown actor',
}

/** A spell told in a few exact sentences; every figure is what its scope counts. */
export function digestSentences(figures: DigestFigures, names: ScopeNames): DigestPiece[] {
  const words = (text: string): DigestPiece => ({ piece: 'words', text })
  const { scope, saves, changes, records, kinds, run, type, usual, stories } = figures
  if (saves === 0) {
    const before =
      usual === null
        ? 'There is too little history to say whether that is usual.'
        : usual < 1
          ? 'That is usual for such a spell.'
          : `In such a spell ${counted(Math.round(usual), 'save')} would be usual.`
    return [words(`Nothing was saved. ${before} `), ...standOut(stories)]
  }
  const figure = (
    text: string,
    of: Scope = scope,
    reading: 'saves' | 'changes' | 'records' = 'saves',
  ): DigestPiece => ({ piece: 'figure', text, scope: of, reading })
  const who = kinds
    .filter((one) => one.actors > 0)
    .map(({ kind, actors }) =>
      figure(
        `${inWords(actors)} ${actors === 1 ? kindOne[kind] : kindPlural[kind]}`,
        withPart(scope, { part: 'who', exclude: false, actors: [], kinds: [kind] }),
      ),
    )
  const pieces = [
    figure(counted(saves, 'save')),
    words(' by '),
    ...joined(who),
    words(' changed '),
    figure(counted(changes, 'field'), scope, 'changes'),
  ]
  if (records !== null) pieces.push(words(' on '), figure(counted(records, 'record'), scope, 'records'))
  pieces.push(words(`${comparison(saves, usual)} `))
  if (run && run.saves * 2 > saves)
    pieces.push(
      words('Most of it is one run on '),
      figure(
        run.saves === 1
          ? `one record of ${names.type(run.typeId) ?? `record type ${run.typeId}`}`
          : `${grouped(run.saves)} ${names.type(run.typeId) ?? 'records'}`,
        withPart(scope, { part: 'how', exclude: false, actions: [], channels: [], runs: [run.id] }),
      ),
      words('. '),
    )
  else if (type && type.saves * 2 > saves)
    pieces.push(
      words('Most of it is about '),
      figure(
        names.type(type.id) ?? `record type ${type.id}`,
        withPart(scope, { part: 'what', exclude: false, types: [type.id], fields: [] }),
      ),
      words('. '),
    )
  return [...pieces, ...standOut(stories)]
}

function comparison(saves: number, usual: number | null): string {
  if (usual === null) return '. There is too little history to say whether that is usual.'
  if (usual < 1) return ', where hardly any are usual.'
  const times = saves / usual
  if (times >= 2.5) return `, about ${inWords(Math.round(times))} times what is usual in such a spell.`
  if (times >= 1.5) return ', about twice what is usual in such a spell.'
  if (times >= 0.67) return ', about as much as usual in such a spell.'
  if (times >= 0.34) return ', about half of what is usual in such a spell.'
  return ', far less than is usual in such a spell.'
}

function standOut(stories: number | null): DigestPiece[] {
  if (stories === null) return []
  if (stories === 0) return [{ piece: 'words', text: 'Nothing stands out.' }]
  const number = inWords(stories)
  return [
    {
      piece: 'stories',
      text: `${number.charAt(0).toUpperCase()}${number.slice(1)} ${stories === 1 ? 'thing stands' : 'things stand'} out`,
    },
    { piece: 'words', text: '. Everything else is like other weeks.' },
  ]
}

function joined(pieces: readonly DigestPiece[]): DigestPiece[] {
  return pieces.flatMap((piece, at) => {
    const before = at === 0 ? '' : at === pieces.length - 1 ? ' and ' : ', '
    return before === '' ? [piece] : [{ piece: 'words' as const, text: before }, piece]
  })
}

/** The digest as plain text. */
export function digestText(pieces: readonly DigestPiece[]): string {
  return pieces.map((piece) => piece.text).join('')
}
