import type { StandingPage } from '@spoor/contract'
import { counted } from '@spoor/core'
import { stringify, type Stringifier } from 'csv-stringify'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { inert } from '../ledger/inert.ts'
import { erasedText, maskedText } from '../ledger/masked.ts'
import { standingPage, type KeyLists, type StandingRequest } from './list.ts'

export type GridRecord = StandingPage['records'][number]
export type GridCell = GridRecord['values'][number]

/** So many records are read at once. */
const atOnce = 500

/** What is not known is said, so that nobody takes it for nothing. */
export const unknownWords: Readonly<Record<NonNullable<GridCell['unknown']>, string>> = {
  untracked: 'not known (not tracked then)',
  gap: 'not known (a gap in tracking)',
  unseen: 'not known (not changed since it is tracked)',
  contradicted: 'not known (changed unseen)',
  erased: erasedText,
  masked: maskedText,
}

function cellText({ value, unknown, cut }: GridCell): string | null {
  if (unknown !== null) return unknownWords[unknown]
  if (value === null) return null
  return inert(cut ? `${value}…` : value)
}

/** Every record of a grid, read page by page. @throws Problem while how records stand is still being put together */
export async function* gridRecords(
  db: Database,
  lists: KeyLists,
  request: Omit<StandingRequest, 'after' | 'limit'>,
): AsyncGenerator<GridRecord> {
  for (let after: string | undefined; ;) {
    const page = await standingPage(db, lists, { ...request, after, limit: atOnce })
    if (page.behind > 0)
      throw new Problem(
        'rule-broken',
        `How records stand is still being put together from the ledger: ${counted(page.behind, 'save')} to go. Nothing was taken out; try again when that is done.`,
      )
    yield* page.records
    if (page.next === null) return
    after = page.next
  }
}

/** The same as lines of text. NULL is an empty cell, empty text a quoted one. */
export async function* gridLines(...of: Parameters<typeof gridRecords>): AsyncGenerator<(string | null)[]> {
  const [, , request] = of
  for await (const { key, label, deletedAt, values } of gridRecords(...of)) {
    const cells = deletedAt === null ? values.map(cellText) : request.fieldIds.map(() => null)
    yield [inert(label), inert(key), deletedAt, ...cells]
  }
}

/** @param fields names of the fields, in the order in which they are asked for */
export function gridSheet(fields: readonly string[]): Stringifier {
  return stringify({
    header: true,
    columns: ['record', 'record key', 'deleted', ...fields].map((header, at) => ({ key: String(at), header })),
    record_delimiter: 'windows',
    quoted_string: true,
  })
}
