import { pipeline, Readable } from 'node:stream'
import { exportHeadings, type ExportColumn } from '@spoor/contract'
import { capitalised, clockWords, grouped, type PackCover, type Scope } from '@spoor/core'
import type { Knex } from 'knex'
import { csvLines, exportCell, exportQuery, type Closed, type ExportRow } from '../changes/csv.ts'
import { closedText, type Closings } from './closings.ts'
import writeWorkbook, { type Cell, type SheetData } from 'write-excel-file/node'
import { Problem } from '../errors.ts'
import type { WorkTable } from '../figures/table.ts'
import { clockCell, sheetName, sheetText, textCell, valueCell } from '../ledger/sheet-cells.ts'
import { saidParagraphs, type Said } from './said.ts'
import { printed } from './pdf/print.ts'
import type { PaperCell, PaperColumn, PaperTable } from './pdf/paper.ts'

export interface TableWanted {
  scopes: readonly Scope[]
  nowMs: number
  columns: readonly ExportColumn[]
  zone: string
  closings: Closings
}

/** As they came about. */
const order = { list: 'changes', sort: 'time', descending: false } as const

/** The changes, a line each, as they came about. */
export async function* csvFile(
  db: Knex,
  { scopes, nowMs, columns, zone, closings }: TableWanted,
): AsyncGenerator<Uint8Array> {
  const rows = await exportQuery(db, scopes, order, new Set(closings.fields.keys()), nowMs)
  const lines = csvLines(columns, zone, closedText(closings))
  // What goes wrong with the rows comes out of the lines.
  pipeline(rows.stream(), lines, () => undefined)
  yield* lines as AsyncIterable<Buffer>
}

/** The same, as rows. */
export async function* changeRows(db: Knex, { scopes, nowMs, closings }: TableWanted): AsyncGenerator<ExportRow> {
  const rows = await exportQuery(db, scopes, order, new Set(closings.fields.keys()), nowMs)
  yield* Readable.from(rows.stream()) as AsyncIterable<ExportRow>
}

/** Paper has no room for more changes, nor for longer values; what is left out is said and is in the other files. */
export const mostOnPaper = 20_000
const longestOnPaper = 20_000

const weights: Readonly<Partial<Record<ExportColumn, number>>> = {
  time: 1.25,
  who: 1.1,
  record: 1.5,
  before: 1.6,
  after: 1.6,
  reason: 1.4,
  key: 1.1,
  difference: 1,
}
const usualWeight = 0.9
const inMono = new Set<ExportColumn>(['time', 'before', 'after', 'key', 'save', 'difference'])

/** The changes on paper behind the first page. */
export function pdfFile(
  db: Knex,
  {
    cover,
    said,
    tables,
    ...table
  }: TableWanted & { cover: PackCover; said: readonly Said[]; tables: readonly BesideFile[] },
  onRows: (rows: number) => Promise<void>,
): AsyncGenerator<Uint8Array> {
  const columns = table.columns.map((column): PaperColumn => ({
    head: exportHeadings[column],
    weight: weights[column] ?? usualWeight,
    mono: inMono.has(column),
  }))
  const left = Math.max(0, cover.holds.changes - mostOnPaper)
  return printed(
    {
      cover,
      columns,
      left,
      said: saidParagraphs(said, table.zone),
      tables: tables.map((one) => tableOnPaper(one, table.zone)),
    },
    paperRows(db, table),
    onRows,
  )
}

/** A table that stands beside the changes: its files without their endings, what it says of itself, and its lines. */
export interface BesideFile {
  name: string
  title: string
  table: WorkTable
}

/** More lines of it nobody reads on paper. */
const mostBeside = 400

function tableOnPaper({ name, title, table: { columns, rows } }: BesideFile, zone: string): PaperTable {
  return {
    title: capitalised(title),
    file: `${name}.csv`,
    columns: columns.map(({ name, kind }) => ({ name, mono: kind !== 'text' })),
    // What has no figure stays empty, as in the table on the screen.
    rows: rows
      .slice(0, mostBeside)
      .map((row) =>
        row.map((cell, at) =>
          cell === null ? '' : columns[at]!.kind === 'instant' ? clockWords(cell, zone) : (onPaper(cell) ?? ''),
        ),
      ),
    left: Math.max(0, rows.length - mostBeside),
  }
}

async function* paperRows(db: Knex, table: TableWanted): AsyncGenerator<PaperCell[]> {
  const closed = closedText(table.closings)
  let rows = 0
  for await (const row of changeRows(db, table)) {
    if (++rows > mostOnPaper) return
    yield table.columns.map((column) => paperCell(row, column, table.zone, closed))
  }
}

/** A cell to be read: times in words, and what there is of a value. */
export function paperCell(row: ExportRow, column: ExportColumn, zone: string, closed: Closed): PaperCell {
  if (column === 'time') return clockWords(row.captured_at, zone).replace(/^\S+ /, '')
  return onPaper(exportCell(row, column, zone, closed))
}

function onPaper(text: string | null): PaperCell {
  if (text === null || text.length <= longestOnPaper) return text === '' ? 'empty text' : text
  return `${text.slice(0, longestOnPaper)} … and ${text.length - longestOnPaper} more characters, whole in data/saves.ndjson`
}

/** A workbook is put together in memory. */
const mostInWorkbook = 100_000

/** @throws Problem where a workbook would have more lines than it takes */
export function demandWorkbook(changes: number): void {
  if (changes > mostInWorkbook)
    throw new Problem(
      'too-large',
      `There are more than ${grouped(mostInWorkbook)} changes, too many for one workbook. No pack was made: leave the workbook out, or ask for less at once.`,
    )
}

/** The changes as a workbook of one sheet, a line each. */
export async function workbook(db: Knex, { columns, zone, closings, ...table }: TableWanted): Promise<Buffer> {
  const closed = closedText(closings)
  const head = (column: ExportColumn) => (column === 'time' ? `time (${zone})` : exportHeadings[column])
  const lines: SheetData = [
    columns.map((column) => ({ value: sheetText(head(column)), type: String, fontWeight: 'bold' })),
  ]
  for await (const row of changeRows(db, { ...table, columns, zone, closings }))
    lines.push(columns.map((column) => cellOf(row, column, zone, closed)))
  return await writeWorkbook(lines, { sheet: sheetName('changes'), stickyRowsCount: 1 }).toBuffer()
}

function cellOf(row: ExportRow, column: ExportColumn, zone: string, closed: Closed): Cell {
  if (column === 'time') return clockCell(row.captured_at, zone)
  const text = exportCell(row, column, zone, closed)
  if (text === null) return null
  const isValue = (column === 'before' || column === 'after') && !row.erased && closed(row) === undefined
  if (isValue) return valueCell(text, row.base_type)
  return column === 'difference' ? valueCell(text, 'numeric') : textCell(text)
}
