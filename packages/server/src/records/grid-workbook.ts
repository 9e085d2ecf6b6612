import { grouped, valueKind } from '@spoor/core'
import writeWorkbook, { type Cell as SheetCell, type SheetData } from 'write-excel-file/node'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { KeyLists, StandingRequest } from '../standing/list.ts'
import { gridRecords, unknownWords, type GridCell } from './grid-csv.ts'

/** A workbook is put together in memory, and a sheet has about a million lines. */
const mostRecords = 200_000
/** Digits that a number of a sheet keeps. */
const mostDigits = 15
const plainNumber = /^-?\d+(\.\d+)?$/

/** What no sheet can hold, marked where it stood. */
const whole = (text: string) =>
  // eslint-disable-next-line no-control-regex
  text.replace(/[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\uD800-\uDFFF]/gu, '\ufffd')

/** Numbers as numbers where a sheet keeps all of their digits; everything else as text, which no sheet reckons with. */
function cellOf({ value, unknown, cut }: GridCell, isNumber: boolean): SheetCell {
  if (unknown !== null) return { value: unknownWords[unknown], type: String, fontStyle: 'italic' }
  if (value === null) return null
  if (isNumber && plainNumber.test(value) && value.replace(/[-.]|^-?0+(?=\d)/g, '').length <= mostDigits)
    return { value: Number(value), type: Number }
  return { value: whole(cut ? `${value}…` : value), type: String }
}

/**
 * A grid as a workbook of one sheet: a line a record, a column a field.
 * @throws Problem where there are more records than one workbook takes
 */
export async function gridWorkbook(
  db: Database,
  lists: KeyLists,
  request: Omit<StandingRequest, 'after' | 'limit'>,
  fields: readonly { name: string; baseType: string }[],
  sheet: string,
): Promise<Buffer> {
  const numeric = fields.map(({ baseType }) => valueKind(baseType) === 'number')
  const head = ['record', 'record key', 'deleted', ...fields.map(({ name }) => name)]
  const lines: SheetData = [head.map((value) => ({ value: whole(value), type: String, fontWeight: 'bold' }))]
  for await (const { key, label, deletedAt, values } of gridRecords(db, lists, request)) {
    if (lines.length > mostRecords)
      throw new Problem(
        'too-large',
        `There are more than ${grouped(mostRecords)} records, too many for one workbook. Take them out as CSV, or fewer of them.`,
      )
    lines.push([
      { value: whole(label), type: String },
      { value: whole(key), type: String },
      deletedAt,
      ...(deletedAt === null ? values.map((cell, at) => cellOf(cell, numeric[at]!)) : fields.map(() => null)),
    ])
  }
  // A sheet's name has 31 characters at most, and not these.
  return await writeWorkbook(lines, {
    sheet: whole(sheet)
      .replace(/[\\/*?:[\]]/g, ' ')
      .slice(0, 31),
    stickyRowsCount: 1,
  }).toBuffer()
}
