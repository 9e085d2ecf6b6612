import { measureWords, pivotWords, severalCurrencies, shareOf, workWords, type Scope, type Work } from '@spoor/core'
import { stringify } from 'csv-stringify/sync'
import writeWorkbook, { type Cell, type SheetData } from 'write-excel-file/node'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { inert } from '../ledger/inert.ts'
import { clockCell, sheetName, sheetText, textCell, valueCell } from '../ledger/sheet-cells.ts'
import type { WorkRequest } from './ground.ts'
import { readFigure } from './over-time.ts'
import { answerSoon } from '../work/answering.ts'
import { pivots, readPivot } from './pivot.ts'
import { readStays } from './stays.ts'

/** How a column's cells are read: text, a number as decimal text, or an instant. */
type Kind = 'text' | 'number' | 'instant'

/** What was worked out, as a table. */
export interface WorkTable {
  title: string
  columns: { name: string; kind: Kind }[]
  rows: (string | null)[][]
}

/** @throws Problem as the readings do */
export async function workTable(
  db: Database,
  scopes: readonly Scope[],
  { work, ...request }: WorkRequest<Work>,
  nowMs: number,
): Promise<WorkTable> {
  switch (work.form) {
    case 'pivot': {
      const { zone, personId = null } = request
      // A pack is made within its own moment, and has all the time.
      const answer =
        db.isTransaction || personId === null
          ? await readPivot(db, scopes, { work, ...request }, nowMs)
          : await answerSoon(db, pivots, { scopes, work, zone, personId }, personId)
      const kind: Kind = work.measure === 'last' ? 'instant' : 'number'
      const others = (many: number, name: string) => (many > 0 ? [`${many} others of ${name}`] : [])
      const across = work.columns
      const lasts = across === null ? [] : others(answer.moreColumns, answer.columnsBy!)
      const named = [...answer.rows.map(({ name }) => name), ...others(answer.moreRows, answer.rowsBy)]
      const share = (figure: string | null) => {
        if (work.measure !== 'share' || figure === null) return figure
        const part = shareOf(figure, answer.total ?? '0')
        return part === null ? null : String(part)
      }
      return {
        title: pivotWords(work.measure, [answer.rowsBy, ...(answer.columnsBy === null ? [] : [answer.columnsBy])]),
        columns: [
          { name: answer.rowsBy, kind: 'text' },
          ...(across === null ? [] : [...answer.columns.map(({ name }) => name), ...lasts]).map((name) => ({
            name,
            kind,
          })),
          { name: `${measureWords[work.measure]}${work.measure === 'share' ? ', percent' : ''}, in all`, kind },
        ],
        rows: [
          ...named.map((name, row) => [
            name,
            ...(across === null ? [] : answer.cells[row]!.map(share)),
            share(answer.rowTotals[row] ?? null),
          ]),
          ['in all', ...(across === null ? [] : answer.columnTotals.map(share)), share(answer.total)],
        ],
      }
    }
    case 'stays': {
      const answer = await readStays(db, scopes, { work, ...request }, nowMs)
      const hours = (ms: number | null) => (ms === null ? null : String(Math.round(ms / 36_000) / 100))
      return {
        title: workWords(work, `${answer.field.name} of ${answer.field.plural}`),
        columns: [
          { name: 'group', kind: 'text' },
          { name: work.to === null ? 'stays' : 'passages', kind: 'number' },
          { name: 'median, hours', kind: 'number' },
          { name: '90th percentile, hours', kind: 'number' },
          { name: 'longest, hours', kind: 'number' },
          { name: 'going on', kind: 'number' },
        ],
        rows: answer.groups.map((group) => [
          group.name,
          String(group.many),
          hours(group.medianMs),
          hours(group.p90Ms),
          hours(group.longestMs),
          String(group.goingOn),
        ]),
      }
    }
    case 'figure': {
      const answer = await readFigure(db, scopes, { work, ...request }, nowMs)
      if (answer.currency?.chosen === null)
        throw new Problem(
          'not-together',
          `${severalCurrencies(
            answer.currency.name,
            answer.currency.values.map(({ name }) => name),
          )}. Nothing was reckoned: choose one in the figure.`,
        )
      return {
        title: workWords(work, `${answer.field.name} of ${answer.field.plural}`),
        columns: [
          { name: `at the end of (${request.zone})`, kind: 'text' },
          { name: work.reckoning, kind: 'number' },
          { name: 'records', kind: 'number' },
          { name: 'of these without a number', kind: 'number' },
          { name: 'records not known', kind: 'number' },
        ],
        rows: answer.points.map(({ day, figure, records, without, unknown }) => [
          day,
          figure,
          String(records),
          String(without),
          String(unknown),
        ]),
      }
    }
  }
}

/** As CSV, formulas inert. NULL is an empty cell, empty text a quoted one. */
export function workCsv({ columns, rows }: WorkTable): string {
  const cell = (text: string | null, kind: Kind) => (text === null || kind === 'number' ? text : inert(text))
  return stringify(
    [
      columns.map(({ name }) => inert(name)),
      ...rows.map((row) => row.map((text, at) => cell(text, columns[at]!.kind))),
    ],
    { record_delimiter: 'windows', quoted_string: true },
  )
}

function sheetCell(text: string | null, kind: Kind, zone: string): Cell {
  if (text === null) return null
  if (kind === 'instant') return clockCell(text, zone)
  return kind === 'number' ? valueCell(text, 'numeric') : textCell(text)
}

/** As a workbook of one sheet. @param zone whose clock its times are of, since a sheet knows no zones */
export async function workSheet({ title, columns, rows }: WorkTable, zone: string): Promise<Buffer> {
  const head = columns.map(({ name }) => ({ value: sheetText(name), type: String, fontWeight: 'bold' as const }))
  const lines: SheetData = [head, ...rows.map((row) => row.map((text, at) => sheetCell(text, columns[at]!.kind, zone)))]
  return await writeWorkbook(lines, { sheet: sheetName(title), stickyRowsCount: 1 }).toBuffer()
}
