import { field, parsed, text } from '../proof/handed.ts'
import { clockWords } from '../time/zone.ts'
import { counted, grouped, listed } from '../words/list.ts'

/** What the first page of a pack says, as it is in `data/cover.json` (rule 18). Instants are ISO 8601 in UTC. */
export interface PackCover {
  spoor: typeof coverHeading
  number: number
  /** For whom or what it was made. */
  title: string
  why: string
  madeBy: string
  madeAt: string
  /** The zone of the times that are to be read. */
  zone: string
  /** Which changes are meant: as a link has it, and as a sentence. */
  scope: string
  sentence: string
  /** What whoever made it may see at most, where that is not everything. */
  within: string | null
  holds: {
    changes: number
    saves: number
    records: number
    people: number
    /** Imports, integrations, jobs and whatever else is no person. */
    others: number
    first: string | null
    last: string | null
  }
  /** Spells in which something of it was not captured, each in words. */
  gaps: string[]
  /** Values that are in it and cannot be read, by field and why. */
  closed: { what: string; why: string; values: number }[]
  seal: { origin: string; at: string; size: number } | null
  /** Who stamps it with the time; null where nobody was asked. */
  authority: string | null
  /** Saves in it that no seal covers. */
  unsealed: number
  /** Of the key that the seal and the pack are signed with. */
  fingerprint: string | null
  files: { name: string; what: string }[]
}

export const coverHeading = 'evidence pack, 1'

export interface CoverRow {
  name: string
  words: readonly string[]
}

/** The first page, row by row, for whoever reads it: on screen, on paper and in a report alike. */
export function coverRows(cover: PackCover): CoverRow[] {
  const { holds, zone, seal } = cover
  const by = [
    ...(holds.people > 0 ? [counted(holds.people, 'person', 'people')] : []),
    ...(holds.others > 0
      ? [counted(holds.others, 'import, job or other program', 'imports, jobs or other programs')]
      : []),
  ]
  const row = (name: string, ...words: string[]): CoverRow => ({ name, words })
  return [
    row(
      'holds',
      holds.changes === 0
        ? 'no change: nothing in the ledger met that'
        : `${counted(holds.changes, 'change')} in ${counted(holds.saves, 'save')} of ${counted(holds.records, 'record')}${by.length > 0 ? `, by ${listed(by)}` : ''}`,
      ...(holds.first && holds.last && holds.first !== holds.last
        ? [`the first ${clockWords(holds.first, zone)}, the last ${clockWords(holds.last, zone)}`]
        : holds.first
          ? [clockWords(holds.first, zone)]
          : []),
    ),
    ...(cover.within === null ? [] : [row('within', cover.within)]),
    row(
      'complete',
      ...(cover.gaps.length === 0
        ? ['everything in it that was tracked was captured throughout that time']
        : [`not throughout: ${counted(cover.gaps.length, 'gap')}`, ...cover.gaps]),
    ),
    row(
      'not readable',
      ...(cover.closed.length === 0
        ? ['nothing: every value can be read']
        : cover.closed.map(({ what, why, values }) => `${counted(values, 'value')} of ${what}: ${why}`)),
    ),
    row('made by', `${cover.madeBy}, ${clockWords(cover.madeAt, zone)}`),
    row('because', `“${cover.why}”`),
    row(
      'sealed under',
      seal === null
        ? 'no seal: nothing of the ledger was sealed yet'
        : `the seal of ${clockWords(seal.at, zone)}, over ${grouped(seal.size)} saves of ${seal.origin}${cover.unsealed > 0 ? `; ${counted(cover.unsealed, 'save')} in it not covered by it` : ''}`,
    ),
    row(
      'time-stamp',
      cover.authority === null
        ? 'none: only the ledger’s own key says when it was made'
        : `by the authority at ${cover.authority} (RFC 3161), in time-stamp.tsr`,
    ),
    row('times', `are those of ${zone}`),
  ]
}

/** How somebody who has nothing but the pack checks it. One in the making has number 0. */
export function howToCheck({ number, fingerprint }: Pick<PackCover, 'number' | 'fingerprint'>): string[] {
  return [
    `Drop the file on Spoor’s page “Check a pack”, which sends it nowhere, or run: spoor-verify pack-${number === 0 ? '…' : number}.zip --key KEY`,
    fingerprint === null
      ? 'It was signed with no key.'
      : `The key’s fingerprint is ${fingerprint}. Ask for it by another way than this file.`,
    'The archive is a bag (RFC 8493): the manifests in it name the SHA-256 of every file.',
  ]
}

/** @returns null for what is no cover. Whatever it holds is shown as text. */
export function readCover(content: string | undefined): PackCover | null {
  const value = content === undefined ? undefined : parsed(content)
  if (text(value, 'spoor') !== coverHeading) return null
  const texts = ['title', 'why', 'madeBy', 'madeAt', 'zone', 'scope', 'sentence'].every(
    (name) => text(value, name) !== null,
  )
  const holds = field(value, 'holds')
  const numbers = ['changes', 'saves', 'records', 'people', 'others'].every((name) =>
    Number.isSafeInteger(field(holds, name)),
  )
  const list = (name: string, fits: (one: unknown) => boolean) => {
    const all = field(value, name)
    return Array.isArray(all) && all.every(fits)
  }
  const orNull = (of: unknown, name: string) => field(of, name) === null || text(of, name) !== null
  const seal = field(value, 'seal')
  const isSeal =
    seal === null ||
    (text(seal, 'origin') !== null && text(seal, 'at') !== null && Number.isSafeInteger(field(seal, 'size')))
  const fits =
    texts &&
    numbers &&
    isSeal &&
    Number.isSafeInteger(field(value, 'number')) &&
    Number.isSafeInteger(field(value, 'unsealed')) &&
    orNull(value, 'within') &&
    orNull(value, 'authority') &&
    orNull(value, 'fingerprint') &&
    orNull(holds, 'first') &&
    orNull(holds, 'last') &&
    list('gaps', (one) => typeof one === 'string') &&
    list(
      'closed',
      (one) => text(one, 'what') !== null && text(one, 'why') !== null && Number.isSafeInteger(field(one, 'values')),
    ) &&
    list('files', (one) => text(one, 'name') !== null && text(one, 'what') !== null)
  return fits ? (value as PackCover) : null
}
