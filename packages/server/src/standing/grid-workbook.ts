import { grouped } from '@spoor/core'
import writeWorkbook, { type Cell as SheetCell, type SheetData } from 'write-excel-file/node'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { sheetName, sheetText, textCell, valueCell } from '../ledger/sheet-cells.ts'
import type { KeyLists, StandingRequest } from './list.ts'
import { gridRecords, unknownWords, type GridCell } from './grid-csv.ts'

/** A workbook is put together in memory, and a sheet has about a million lines. */
const mostRecords = 200_000
function cellOf({ value, unknown, cut }: GridCell, baseType: string): SheetCell {
  if (unknown !== null) return { value: unknownWords[unknown], type: String, fontStyle: 'italic' }
  if (value === null) return null
  return cut ? textCell(`${value}…`) : valueCell(value, baseType)
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
  const head = ['record', 'record key', 'deleted', ...fields.map(({ name }) => name)]
  const lines: SheetData = [head.map((value) => ({ value: sheetText(value), type: String, fontWeight: 'bold' }))]
  for await (const { key, label, deletedAt, values } of gridRecords(db, lists, request)) {
    if (lines.length > mostRecords)
      throw new Problem(
        'too-large',
        `There are more than ${grouped(mostRecords)} records, too many for one workbook. Take them out as CSV, or fewer of them.`,
      )
    lines.push([
      textCell(label),
      textCell(key),
      deletedAt,
      ...(deletedAt === null ? values.map((cell, at) => cellOf(cell, fields[at]!.baseType)) : fields.map(() => null)),
    ])
  }
  return await writeWorkbook(lines, {
    sheet: sheetName(sheet),
    stickyRowsCount: 1,
  }).toBuffer()
}
