import { groupBy } from '@spoor/core'
import { stringify } from 'csv-stringify'
import type { Database } from '../database/knex.ts'
import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'
import { Problem } from '../errors.ts'
import { inert } from '../ledger/inert.ts'
import { maskedFields } from '../ledger/masked.ts'
import type { Sources } from '../sources/registry.ts'
import { noSuch, readItems, type KeptItem } from './store.ts'
import { writableTables } from './tables.ts'
import type { WritableField, WritableTable } from './source-writer.ts'

/** What a correction would write, for whoever owns the source and does it by hand. */
interface Written {
  correctionId: number
  items: KeptItem[]
  tables: Map<number, WritableTable>
}

const isWritten = ({ state, choice }: KeptItem) =>
  (state === 'clear' && choice !== 'leave') || (state === 'changed-since' && choice === 'overwrite')

/** @throws Problem where there is no such draft, nothing of it is to be written, or a value of it is masked */
async function writtenBy(db: Database, sources: Sources, correctionId: number): Promise<Written> {
  const head = await db('spoor.correction')
    .where({ id: correctionId })
    .first<{ source_id: number; state: string } | undefined>('source_id', 'state')
  if (!head) throw noSuch(correctionId)
  if (head.state !== 'draft')
    throw new Problem(
      'correction-closed',
      'It was applied by Spoor already, so there is nothing for somebody else to do.',
    )
  const items = (await readItems(db, correctionId)).filter(isWritten)
  if (items.length === 0)
    throw new Problem('nothing-to-revert', 'No value of it would be written as it stands. No file was made.')
  const masked = await maskedFields(db)
  if (items.some((item) => masked.has(item.fieldId)))
    throw new Problem(
      'not-allowed',
      'It sets masked values back, and those leave Spoor in no file. Leave them, or have Spoor write them.',
    )
  const discovered = await sources.refresh(head.source_id)
  const tables = await writableTables(db, discovered, [...new Set(items.map((item) => item.typeId))])
  return { correctionId, items, tables }
}

const literal = (value: string | null, { castType }: Pick<WritableField, 'castType'>) =>
  value === null ? 'null' : `${quoteLiteral(value)}::${castType}`

/**
 * One script that writes what the correction would, record by record, all or nothing: each only where every value is still the
 * one that was seen. Where one is not, the script stops and names it.
 */
export async function correctionScript(db: Database, sources: Sources, correctionId: number): Promise<string> {
  const { items, tables } = await writtenBy(db, sources, correctionId)
  const lines = [
    `-- Correction ${correctionId} of Spoor, for whoever owns these tables. All or nothing.`,
    '-- Each record is written only where it still holds what was seen; where not, nothing is written at all.',
    'begin;',
    `set local datestyle = 'ISO, YMD'; set local intervalstyle = 'postgres'; set local timezone = 'UTC';`,
    `set local standard_conforming_strings = on;`,
  ]
  for (const of of groupBy(items, ({ typeId, key }) => `${typeId}/${key}`).values()) {
    const { typeId, key } = of[0]!
    const table = tables.get(typeId)
    if (!table) continue
    const fields = of.flatMap((item) => {
      const field = table.fields.get(item.fieldId)
      return field && !field.generated ? [{ item, field }] : []
    })
    if (fields.length === 0) continue
    const parts = JSON.parse(key) as string[]
    const where = [
      ...table.key.map((part, at) => `${id(part.column)} = ${literal(parts[at]!, part)}`),
      ...fields.map(({ item, field }) => `${id(field.column)} is not distinct from ${literal(item.now, field)}`),
    ].join(' and ')
    const sets = fields.map(({ item, field }) => `${id(field.column)} = ${literal(item.target, field)}`).join(', ')
    const body = `begin update ${id(table.schema)}.${id(table.table)} set ${sets} where ${where}; if not found then raise exception 'correction ${correctionId}: a record is not as it was seen: %', ${quoteLiteral(`${table.schema}.${table.table} ${key}`)}; end if; end`
    lines.push(`do ${quoteLiteral(body)};`)
  }
  return `${[...lines, 'commit;'].join('\n')}\n`
}

/** The same as a list to be read, or to be worked through by hand: a line a value. */
export async function correctionList(
  db: Database,
  sources: Sources,
  correctionId: number,
): Promise<NodeJS.ReadableStream> {
  const { items, tables } = await writtenBy(db, sources, correctionId)
  const sheet = stringify({
    header: true,
    columns: ['table', 'record key', 'record', 'column', 'is now', 'is to be'].map((header, at) => ({
      key: String(at),
      header,
    })),
    record_delimiter: 'windows',
    quoted_string: true,
  })
  const text = (value: string | null) => (value === null ? null : inert(value))
  for (const { typeId, key, label, fieldId, now, target } of items) {
    const table = tables.get(typeId)
    const column = table?.fields.get(fieldId)?.column
    if (table && column !== undefined)
      sheet.write([`${table.schema}.${table.table}`, inert(key), inert(label), inert(column), text(now), text(target)])
  }
  sheet.end()
  return sheet
}
