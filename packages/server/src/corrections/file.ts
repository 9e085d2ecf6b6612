import { placeOfRecord, writesOf, type RecordAct, type RehearsedItem } from '@spoor/core'
import { stringify } from 'csv-stringify'
import type { Database } from '../database/knex.ts'
import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'
import { Problem } from '../errors.ts'
import { inert } from '../ledger/inert.ts'
import { maskedFields } from '../ledger/masked.ts'
import type { Sources } from '../sources/registry.ts'
import { inOrder, keptThen } from './orders.ts'
import { noSuch, readItems, type HeadRow } from './store.ts'
import { referencesIn, writableTables } from './tables.ts'
import type { WritableField, WritableTable } from './source-writer.ts'

/** What a correction would write, for whoever owns the source and does it by hand. */
interface Written {
  correctionId: number
  acts: RecordAct[]
  labels: ReadonlyMap<string, string>
  tables: Map<number, WritableTable>
}

/** @throws Problem where there is no such draft, nothing of it is to be written, or a value of it is masked */
async function writtenBy(db: Database, sources: Sources, correctionId: number): Promise<Written> {
  const head = await db('spoor.correction')
    .where({ id: correctionId })
    .first<Pick<HeadRow, 'source_id' | 'state' | 'trial'> | undefined>('source_id', 'state', 'trial')
  if (!head) throw noSuch(correctionId)
  if (head.state !== 'draft')
    throw new Problem(
      'correction-closed',
      'It was applied by Spoor already, so there is nothing for somebody else to do.',
    )
  const items = await readItems(db, correctionId)
  const writes = writesOf(items as RehearsedItem[])
  if (writes.length === 0)
    throw new Problem('nothing-to-revert', 'No value of it would be written as it stands. No file was made.')
  const masked = await maskedFields(db)
  if (writes.some((write) => masked.has(write.fieldId)))
    throw new Problem(
      'not-allowed',
      'It sets masked values back, and those leave Spoor in no file. Leave them, or have Spoor write them.',
    )
  const discovered = await sources.refresh(head.source_id)
  const tables = await writableTables(db, discovered, [...new Set(items.map((item) => item.typeId))])
  const references = await referencesIn(db, discovered, head.source_id)
  const keptOf = await keptThen(db, correctionId, tables)
  const labels = new Map(items.map((item) => [placeOfRecord(item), item.label]))
  const order = { removeFirst: head.trial?.removeFirst ?? false }
  return { correctionId, acts: inOrder({ references, keptOf }, writes, order), labels, tables }
}

const literal = (value: string | null, { castType }: Pick<WritableField, 'castType'>) =>
  value === null ? 'null' : `${quoteLiteral(value)}::${castType}`

/**
 * One script that writes what the correction would, record by record, all or nothing: each only where every value is still the
 * one that was seen. Where one is not, the script stops and names it.
 */
export async function correctionScript(db: Database, sources: Sources, correctionId: number): Promise<string> {
  const { acts, tables } = await writtenBy(db, sources, correctionId)
  const lines = [
    `-- Correction ${correctionId} of Spoor, for whoever owns these tables. All or nothing.`,
    '-- Each record is written only where it still holds what was seen; where not, nothing is written at all.',
    'begin;',
    `set local datestyle = 'ISO, YMD'; set local intervalstyle = 'postgres'; set local timezone = 'UTC';`,
    `set local standard_conforming_strings = on;`,
  ]
  for (const act of acts) {
    const table = tables.get(act.typeId)
    if (!table) continue
    const statement = statementOf(table, act)
    const named = quoteLiteral(`${table.schema}.${table.table} ${act.key}`)
    if (statement !== null)
      lines.push(
        `do ${quoteLiteral(`begin ${statement}; if not found then raise exception 'correction ${correctionId}: a record is not as it was seen: %', ${named}; end if; end`)};`,
      )
  }
  return `${[...lines, 'commit;'].join('\n')}\n`
}

/** @returns null where nothing of it can be written */
function statementOf(table: WritableTable, { act, key, writes }: RecordAct): string | null {
  const name = `${id(table.schema)}.${id(table.table)}`
  const parts = JSON.parse(key) as string[]
  const inKey = new Set(table.key.map(({ column }) => column))
  const fields = writes.flatMap((write) => {
    const field = table.fields.get(write.fieldId)
    return field ? [{ write, field }] : []
  })
  const own = fields.filter(({ field }) => !field.generated)
  if (act === 'recreate') {
    const columns = [
      ...table.key.map((part, at) => [part.column, literal(parts[at]!, part)] as const),
      ...own
        .filter(({ field }) => !inKey.has(field.column))
        .map(({ write, field }) => [field.column, literal(write.value, field)] as const),
    ]
    return `insert into ${name} (${columns.map(([column]) => id(column)).join(', ')}) overriding system value values (${columns.map(([, value]) => value).join(', ')})`
  }
  const guarded = act === 'remove' ? fields : own
  const where = [
    ...table.key.map((part, at) => `${id(part.column)} = ${literal(parts[at]!, part)}`),
    ...guarded.map(
      ({ write, field }) => `${id(field.column)}::text is not distinct from ${literal(write.expected, field)}::text`,
    ),
  ].join(' and ')
  if (act === 'remove') return `delete from ${name} where ${where}`
  if (own.length === 0) return null
  return `update ${name} set ${own.map(({ write, field }) => `${id(field.column)} = ${literal(write.value, field)}`).join(', ')} where ${where}`
}

/** That a draft was given to whoever owns the source; from then on the trail is held against it. */
export async function noteGivenOut(db: Database, correctionId: number, personId: number): Promise<void> {
  await db('spoor.correction')
    .where({ id: correctionId, state: 'draft' })
    .whereNull('handed_at')
    .update({ handed_by: personId, handed_at: db.fn.now() })
}

/** The same as a list to be read, or to be worked through by hand: a line a value. */
export async function correctionList(
  db: Database,
  sources: Sources,
  correctionId: number,
): Promise<NodeJS.ReadableStream> {
  const { acts, labels, tables } = await writtenBy(db, sources, correctionId)
  const sheet = stringify({
    header: true,
    columns: ['table', 'record key', 'record', 'what to do', 'column', 'is now', 'is to be'].map((header, at) => ({
      key: String(at),
      header,
    })),
    record_delimiter: 'windows',
    quoted_string: true,
  })
  const text = (value: string | null) => (value === null ? null : inert(value))
  const doing = { set: 'set', recreate: 'make anew', remove: 'remove' } as const
  for (const act of acts) {
    const table = tables.get(act.typeId)
    if (!table) continue
    const label = labels.get(placeOfRecord(act)) ?? act.key
    const record = [`${table.schema}.${table.table}`, inert(act.key), inert(label), doing[act.act]]
    for (const { fieldId, expected, value } of act.writes) {
      const column = table.fields.get(fieldId)?.column
      if (column !== undefined) sheet.write([...record, inert(column), text(expected), text(value)])
    }
  }
  sheet.end()
  return sheet
}
