import type { RecordHits } from '@spoor/contract'
import { capitalised, type ReadWords, type Scope } from '@spoor/core'
import type { RouteLocationRaw } from 'vue-router'
import { recordLink } from '../records/link.ts'
import { scopeQuery } from '../scope/query.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import type { RecentRecord } from './recent.ts'

/** One thing that typed words may mean, and where it leads. */
export interface FindOption {
  /** What kind of thing it is understood as. */
  as: 'Record' | 'Looked at lately' | 'Save' | 'Who' | 'Record type' | 'Field' | 'Changes'
  title: string
  /** What of it was met. */
  note: string
  to: RouteLocationRaw
  /** How surely it is meant; the surest stands first. */
  weight: number
}

const changes = (scope: Scope): RouteLocationRaw => ({ path: '/changes', query: scopeQuery(scope) })
const mostOf = 4

export function recentOptions(records: readonly RecentRecord[], names: NamedVocabulary): FindOption[] {
  return records.map((record) => ({
    as: 'Looked at lately',
    title: `${names.typeTitle(record.typeId)} ${record.label}`,
    note: '',
    to: recordLink(record),
    weight: 0,
  }))
}

/** What of a record was met, where that is not its name, and whether it is gone. */
export function metWords({ by, deleted }: RecordHits['records'][number], names: NamedVocabulary): string {
  const met =
    by === null
      ? []
      : 'formerKey' in by
        ? [`had the key ${(JSON.parse(by.formerKey) as string[]).join(' · ')}`]
        : [`${names.fieldName(by.fieldId)} ${by.now ? 'is' : 'was'} ${by.value}`]
  return [...(deleted ? ['deleted'] : []), ...met].join(' · ')
}

function recordOption(hit: RecordHits['records'][number], words: string, names: NamedVocabulary): FindOption {
  const { by } = hit
  const begins = by === null && hit.label.toLowerCase().startsWith(words.toLowerCase())
  return {
    as: 'Record',
    title: `${names.typeTitle(hit.typeId)} ${hit.label}`,
    note: metWords(hit, names),
    to: recordLink(hit),
    weight: begins ? 80 : by === null ? 60 : 55,
  }
}

/** Of names those that contain the words, those that are the words or begin with them first. */
function named<T>(list: readonly T[], nameOf: (item: T) => string, words: string): { item: T; exact: boolean }[] {
  const wanted = words.toLowerCase()
  const place = (item: T) => nameOf(item).toLowerCase().indexOf(wanted)
  return list
    .filter((item) => place(item) >= 0)
    .sort((a, b) => place(a) - place(b) || nameOf(a).length - nameOf(b).length)
    .slice(0, mostOf)
    .map((item) => ({ item, exact: nameOf(item).toLowerCase() === wanted }))
}

/** What some words may mean, the surest first. */
export function findOptions(
  words: string,
  names: NamedVocabulary,
  { records, reading, seesAll }: { records: RecordHits['records']; reading: ReadWords; seesAll: boolean },
): FindOption[] {
  const save = /^(?:save\s+)?#?(\d{1,18})$/i.exec(words)
  const people = named(names.actors, (actor) => actor.name, words).map(({ item, exact }): FindOption => ({
    as: 'Who',
    title: item.name,
    note: 'everything they changed',
    to: changes({ who: { part: 'who', exclude: false, actors: [item.id], kinds: [] } }),
    weight: exact ? 90 : 50,
  }))
  const types = named(names.types, (type) => type.plural, words).map(({ item, exact }): FindOption => ({
    as: 'Record type',
    title: capitalised(item.plural),
    note: seesAll ? 'as they stand' : 'their changes',
    to: seesAll
      ? { name: 'standing', params: { typeId: String(item.id) } }
      : changes({ what: { part: 'what', exclude: false, types: [item.id], fields: [] } }),
    weight: exact ? 88 : 45,
  }))
  const fields = named(names.fields, (field) => field.name, words).map(({ item, exact }): FindOption => ({
    as: 'Field',
    title: `${item.name} of ${names.type(item.typeId) ?? 'records'}`,
    note: 'its changes',
    to: changes({ what: { part: 'what', exclude: false, types: [], fields: [item.id] } }),
    weight: exact ? 85 : 40,
  }))
  return [
    ...records.map((hit) => recordOption(hit, words, names)),
    ...(save
      ? [
          {
            as: 'Save' as const,
            title: `Save ${save[1]}`,
            note: '',
            to: { path: '/changes', query: { save: save[1] } },
            weight: /^save/i.test(words) ? 100 : 20,
          },
        ]
      : []),
    ...people,
    ...types,
    ...fields,
    ...scopeOption(reading),
  ].sort((a, b) => b.weight - a.weight)
}

/** The words as a scope: surest where they say more than one thing and all of it is understood. */
function scopeOption({ scope, pieces }: ReadWords): FindOption[] {
  if (Object.keys(scope).length === 0) return []
  const whole = pieces.every((piece) => piece.state === 'understood' || piece.state === 'guessed')
  const weight = !whole ? 30 : Object.keys(scope).length > 1 ? 86 : 58
  return [{ as: 'Changes', title: '', note: '', to: changes(scope), weight }]
}
