import type { Save } from '@spoor/contract'
import { groupBy, type Scope } from '@spoor/core'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { fullTime } from '../value/time.ts'

/** Saves of what belongs to a record, below its own lanes: one row for each type of line. */
export interface Below {
  typeId: number
  /** "account lines · 63". */
  title: string
  points: { ms: number; saveId: string; title: string }[]
  saves: readonly Save[]
}

/** So many of the latest are shown. */
export const mostBelow = 200

/** The saves of a record's lines, through the keys it had; null where records of its type have none. */
export function linesScope(typeId: number, keys: readonly string[], names: NamedVocabulary): Scope | null {
  const types = names.types.filter((type) => type.parentTypeId === typeId).map((type) => type.id)
  if (types.length === 0) return null
  return {
    what: { part: 'what', exclude: false, types, fields: [] },
    record: { part: 'record', exclude: false, lines: true, records: keys.map((key) => ({ typeId, key })) },
  }
}

/** @param more whether there are older ones */
export function belowRecord(saves: readonly Save[], more: boolean, names: NamedVocabulary): Below[] {
  return [...groupBy(saves, (save) => save.typeId)].map(([typeId, own]) => ({
    typeId,
    title: `${names.type(typeId) ?? `record type ${typeId}`} · ${more ? 'the latest ' : ''}${own.length}`,
    saves: own,
    points: own.map(({ id, at, label, action }) => ({
      ms: Date.parse(at),
      saveId: id,
      title: `${label} ${action === 'change' ? 'changed' : `${action}d`}, ${fullTime(at)}`,
    })),
  }))
}
