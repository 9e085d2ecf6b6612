import { pipeline, PassThrough, Readable } from 'node:stream'
import type { ExportColumn } from '@spoor/contract'
import type { Scope } from '@spoor/core'
import type { Knex } from 'knex'
import { csvLines, exportQuery, type ExportRow } from '../changes/csv.ts'

export interface TableWanted {
  scopes: readonly Scope[]
  nowMs: number
  columns: readonly ExportColumn[]
  zone: string
  /** What stands for values that are not to be read, by field. */
  closed: ReadonlyMap<number, string>
}

/** As they came about. */
const order = { list: 'changes', sort: 'time', descending: false } as const

/** What stands in a table for a value that is left out: never to be taken for a value. */
export const closedAsText = (closed: ReadonlyMap<number, string>): ReadonlyMap<number, string> =>
  new Map([...closed].map(([fieldId, why]) => [fieldId, `[${why}]`]))

/** The changes, a line each, as they came about. */
export async function* csvFile(
  db: Knex,
  { scopes, nowMs, columns, zone, closed }: TableWanted,
): AsyncGenerator<Uint8Array> {
  const rows = await exportQuery(db, scopes, order, new Set(closed.keys()), nowMs)
  const out = new PassThrough()
  const [cells, lines] = csvLines(columns, zone, closedAsText(closed))
  pipeline(rows.stream(), cells, lines, out, () => undefined)
  yield* out as AsyncIterable<Buffer>
}

/** The same, as rows. */
export async function* changeRows(db: Knex, { scopes, nowMs, closed }: TableWanted): AsyncGenerator<ExportRow> {
  const rows = await exportQuery(db, scopes, order, new Set(closed.keys()), nowMs)
  yield* Readable.from(rows.stream()) as AsyncIterable<ExportRow>
}
