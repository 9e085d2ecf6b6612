import type { Case, CaseEntry, CaseKind } from '@spoor/contract'
import { counted, listed } from '@spoor/core'
import { caseKinds } from '@spoor/contract'

/** "3 saves, 1 record and 2 packs". */
export function gatheredWords(gathered: Case['gathered']): string {
  const kinds = caseKinds.filter((kind) => gathered[kind] > 0)
  return kinds.length === 0 ? 'nothing yet' : listed(kinds.map((kind) => counted(gathered[kind], kind)))
}

export const kindTitles: Readonly<Record<CaseKind, string>> = {
  save: 'Saves',
  record: 'Records',
  question: 'Questions',
  note: 'Notes',
  correction: 'Corrections',
  pack: 'Packs',
}

/** What stands before the text of an entry, after its author's name. */
export const entryWords: Readonly<Record<CaseEntry['kind'], string>> = {
  words: 'wrote',
  finding: 'closed it, and found',
  'opened again': 'opened it again',
  owner: 'handed it to',
  question: 'put the question in other words; before it was',
}
