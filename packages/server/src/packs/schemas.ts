import type { WorkTable } from '../figures/table.ts'
import { exportHeadings, type ExportColumn } from '@spoor/contract'

/** What the files of a pack hold, for programs that read them. */

const text = { type: 'string' }
const textOrNull = { type: ['string', 'null'] }
const hashes = { ...text, contentEncoding: 'base64', description: 'Hashes that fill the tree before it (rule 17)' }

/** Each line of `data/saves.ndjson`, as JSON Schema. */
export const savesSchema = {
  $schema: 'https://json-schema.org/draft/2020-12/schema',
  title: 'A line of saves.ndjson',
  oneOf: [
    {
      title: 'The first line',
      type: 'object',
      required: ['spoor', 'seal', 'key'],
      properties: { spoor: { const: 'pack of saves, 1' }, seal: textOrNull, key: textOrNull },
    },
    {
      title: 'A save',
      type: 'object',
      required: ['index', 'leaf', 'fill', 'canonical', 'openings', 'closed'],
      properties: {
        index: {
          type: ['integer', 'null'],
          description: 'Its leaf in the ledger, from 0; null where no seal covers it',
        },
        leaf: { ...text, description: 'The beginning of its leaf, in hexadecimal digits' },
        fill: hashes,
        canonical: { ...text, description: 'The save as it is proved (rules 5 and 6): JSON' },
        openings: {
          type: 'array',
          items: {
            type: 'object',
            required: ['fieldId', 'salt', 'before', 'after'],
            properties: { fieldId: { type: 'integer' }, salt: text, before: textOrNull, after: textOrNull },
          },
        },
        closed: {
          type: 'object',
          additionalProperties: text,
          description: 'Why, by the number of a field that is not open',
        },
      },
    },
    {
      title: 'The last line',
      type: 'object',
      required: ['saves', 'fill'],
      properties: { saves: { type: 'integer' }, fill: hashes },
    },
  ],
}

/** `data/changes.csv`, as CSV on the Web (W3C). */
export const csvMetadata = (columns: readonly ExportColumn[], zone: string) => ({
  '@context': 'http://www.w3.org/ns/csvw',
  url: 'changes.csv',
  dialect: { header: true, lineTerminators: ['\r\n'], encoding: 'utf-8' },
  tableSchema: {
    columns: columns.map((column) => ({
      name: column,
      titles: exportHeadings[column],
      datatype: column === 'time' ? 'dateTime' : column === 'save' ? 'integer' : 'string',
      ...(column === 'time' ? { 'dc:description': `on the clock of ${zone}, with its offset` } : {}),
      // An empty cell is nothing; empty text is two quotation marks.
      null: '',
    })),
  },
})

/** A table beside the changes, the same way. @param url its file, which lies beside this */
export const tableMetadata = (url: string, { title, columns }: WorkTable) => ({
  '@context': 'http://www.w3.org/ns/csvw',
  url,
  'dc:title': title,
  dialect: { header: true, lineTerminators: ['\r\n'], encoding: 'utf-8' },
  tableSchema: {
    columns: columns.map(({ name, kind }, at) => ({
      name: `c${at + 1}`,
      titles: name,
      datatype: { text: 'string', number: 'decimal', instant: 'dateTime' }[kind],
      null: '',
    })),
  },
})
