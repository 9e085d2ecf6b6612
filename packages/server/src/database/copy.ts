import { pipeline } from 'node:stream/promises'
import { Readable } from 'node:stream'
import type { Knex } from 'knex'
import type { Client } from 'pg'
import { from as copyFrom } from 'pg-copy-streams'

export type CopyValue = string | number | boolean | null

const escapes: Readonly<Record<string, string>> = { '\\': '\\\\', '\t': '\\t', '\n': '\\n', '\r': '\\r' }

const special = /[\\\t\n\r]/

function escaped(text: string): string {
  return special.test(text) ? text.replace(/[\\\t\n\r]/g, (c) => escapes[c]!) : text
}

/** One row in the text format of COPY. @param hex columns of bytes behind the others, in hexadecimal digits */
export function copyLine(values: readonly CopyValue[], ...hex: readonly string[]): string {
  let line = copyText(values[0] ?? null)
  for (let at = 1; at < values.length; at++) line += `\t${copyText(values[at]!)}`
  return line + bytesText(hex)
}

/** The same of values by their columns' names, in the order of the columns. */
export function copyRow<Column extends string>(
  columns: readonly Column[],
  values: Readonly<Record<Column, CopyValue>>,
  ...hex: readonly string[]
): string {
  let line = copyText(values[columns[0]!])
  for (let at = 1; at < columns.length; at++) line += `\t${copyText(values[columns[at]!])}`
  return line + bytesText(hex)
}

function bytesText(hex: readonly string[]): string {
  let text = ''
  for (const digits of hex) text += `\t\\\\x${digits}`
  return `${text}\n`
}

function copyText(value: CopyValue): string {
  if (value === null) return '\\N'
  return typeof value === 'string' ? escaped(value) : String(value)
}

/**
 * Writes rows into a table inside the transaction. Column and table names are ours, never from outside. Lines are
 * asked for as the database takes them, so that making them and writing them go on side by side.
 */
export async function copyInto(
  trx: Knex.Transaction,
  table: string,
  columns: readonly string[],
  lines: Iterable<string>,
): Promise<void> {
  const client = (await trx.client.acquireConnection()) as Client
  const sink = client.query(copyFrom(`copy ${table} (${columns.join(', ')}) from stdin`))
  await pipeline(Readable.from(chunks(lines)), sink)
}

const chunkLength = 64 * 1024

function* chunks(lines: Iterable<string>): Generator<string> {
  let chunk = ''
  for (const line of lines) {
    chunk += line
    if (chunk.length >= chunkLength) {
      yield chunk
      chunk = ''
    }
  }
  if (chunk) yield chunk
}
