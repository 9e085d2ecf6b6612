import { parse } from 'csv-parse/sync'
import type pg from 'pg'
import { withActor, type ActorContext } from '@spoor/client'
import type { DeskField, DeskTable } from './forms.ts'

/** What a form sent, by field name. */
export type Sent = Readonly<Record<string, string>>

/** A refusal in words for the officer. */
export class DeskRefusal extends Error {}

/** A form sends every line break as CR LF; the database holds LF. */
function unified(text: string): string {
  return text.replace(/\r\n/g, '\n')
}

/** An emptied input means that there is nothing. */
function valueOf(text: string): string | null {
  return text === '' ? null : unified(text)
}

function officerContext(officer: string, sent: Sent, more: Partial<ActorContext> = {}): ActorContext {
  const reason = sent['_reason']?.trim()
  return { actor: officer, kind: 'person', channel: 'screen', ...(reason ? { reason } : {}), ...more }
}

async function using<T>(pool: pg.Pool, work: (client: pg.PoolClient) => Promise<T>): Promise<T> {
  const client = await pool.connect()
  try {
    return await work(client)
  } finally {
    client.release()
  }
}

/** Writes what the officer changed of one record, and nothing else. @returns the labels of what was written. */
export async function saveRecord(
  pool: pg.Pool,
  table: DeskTable,
  key: string,
  sent: Sent,
  officer: string,
): Promise<string[]> {
  return await using(pool, async (client) => {
    const { rows } = await client.query<Record<string, string | null>>(
      `select * from ${table.table} where ${table.key}::text = $1`,
      [key],
    )
    const before = rows[0]
    if (!before) throw new DeskRefusal(`${table.title} has no record ${key}.`)
    const changed = table.fields.filter(
      ({ column }) => column in sent && unified(sent[column]!) !== (before[column] ?? ''),
    )
    if (changed.length > 0) {
      const set = changed.map(({ column, type }, at) => `${column} = $${at + 2}::${type}`).join(', ')
      await withActor(client, officerContext(officer, sent), (c) =>
        c.query(`update ${table.table} set ${set} where ${table.key}::text = $1`, [
          key,
          ...changed.map(({ column }) => valueOf(sent[column]!)),
        ]),
      )
    }
    return changed.map((one) => one.label)
  })
}

/** Adds a line to its parent. */
export async function addLine(
  pool: pg.Pool,
  lines: DeskTable,
  parentColumn: string,
  parent: string,
  sent: Sent,
  officer: string,
): Promise<void> {
  const columns = lines.fields.map(({ column }) => column).join(', ')
  const values = lines.fields.map(({ type }, at) => `$${at + 2}::${type}`).join(', ')
  await using(pool, (client) =>
    withActor(client, officerContext(officer, sent), (c) =>
      c.query(
        `insert into ${lines.table} (id, ${parentColumn}, ${columns}) select coalesce(max(id), 0) + 1, $1, ${values} from ${lines.table}`,
        [parent, ...lines.fields.map(({ column }) => valueOf(sent[column] ?? ''))],
      ),
    ),
  )
}

export async function deleteRecord(
  pool: pg.Pool,
  table: DeskTable,
  key: string,
  sent: Sent,
  officer: string,
): Promise<void> {
  await using(pool, (client) =>
    withActor(client, officerContext(officer, sent), (c) =>
      c.query(`delete from ${table.table} where ${table.key}::text = $1`, [key]),
    ),
  )
}

/** Sets one field of many records to one value, in one transaction. @returns how many were written. */
export async function bulkEdit(
  pool: pg.Pool,
  table: DeskTable,
  keys: readonly string[],
  sent: Sent,
  officer: string,
): Promise<number> {
  const field = table.fields.find((one) => one.column === sent['_field'])
  if (!field) throw new DeskRefusal('Choose the field to set.')
  if (keys.length === 0) throw new DeskRefusal('Tick the records to set it for.')
  const run = `bulk edit of ${field.label.toLowerCase()}`
  const result = await using(pool, (client) =>
    withActor(client, officerContext(officer, sent, { run }), (c) =>
      c.query(`update ${table.table} set ${field.column} = $2::${field.type} where ${table.key}::text = any($1)`, [
        keys,
        valueOf(sent['_value'] ?? ''),
      ]),
    ),
  )
  return result.rowCount ?? 0
}

/** Writes the records of a CSV file: a column with the key, the others fields by their column name. All or none. */
export async function loadFile(
  pool: pg.Pool,
  table: DeskTable,
  csv: string,
  sent: Sent,
  officer: string,
): Promise<number> {
  let lines: Record<string, string>[]
  try {
    lines = parse(csv, { columns: true, bom: true, skip_empty_lines: true, trim: true })
  } catch (error) {
    throw new DeskRefusal(`The file cannot be read: ${(error as Error).message}`)
  }
  const names = Object.keys(lines[0] ?? {})
  const fields = names.flatMap((name): DeskField[] => table.fields.filter((field) => field.column === name))
  if (!names.includes(table.key) || fields.length === 0)
    throw new DeskRefusal(
      `The file needs a column ${table.key} and at least one of ${table.fields.map((field) => field.column).join(', ')}.`,
    )
  const run = `file ${sent['_file']?.trim() || 'without a name'}`
  return await using(pool, (client) =>
    withActor(client, officerContext(officer, sent, { channel: 'import', run }), async (c) => {
      let written = 0
      for (const [at, line] of lines.entries()) {
        const set = fields.map(({ column, type }, n) => `${column} = $${n + 2}::${type}`).join(', ')
        const result = await c.query(`update ${table.table} set ${set} where ${table.key}::text = $1`, [
          line[table.key],
          ...fields.map(({ column }) => valueOf(line[column] ?? '')),
        ])
        if (result.rowCount !== 1)
          throw new DeskRefusal(`Line ${at + 2}: there is no record ${line[table.key]}. Nothing was written.`)
        written++
      }
      return written
    }),
  )
}
