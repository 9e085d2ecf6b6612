import { createHash } from 'node:crypto'
import { pipeline } from 'node:stream/promises'
import { Readable } from 'node:stream'
import type pg from 'pg'
import { from as copyFrom } from 'pg-copy-streams'
import { copyLine } from '@spoor/server'
import type { HistoryRow } from './recorder.ts'
import { fingerprintColumns } from './tracked.ts'

/** Numbers under which Spoor knows a table and its columns. */
export interface RegisteredTable {
  typeId: number
  labelColumns: readonly string[]
  /** Which type's record a column names by its key. */
  refersTo: Map<string, number>
  /** Of a line, the columns that hold its parent's key. */
  parentColumns: readonly string[]
  fieldIds: ReadonlyMap<string, number>
}

/** Which plan version was in force when. */
export interface PlanSpell {
  fromMs: number
  version: number
}

const columns =
  'captured_at, transaction_id, type_id, plan_version, action, key, key_before, parent_key, label, label_of, delta, context, login, application_name, client_address'
const chunkRows = 2000

/**
 * Draws as many transaction numbers of the source as a history has transactions, for nobody else to have: so that history
 * and present are never taken for one, and all that is found later was found after its history.
 * @returns the number before the first of them
 */
export async function drawTransactions(client: pg.Client, many: number): Promise<bigint> {
  const { rows } = await client.query<{ number: string }>('select pg_current_xact_id() as number')
  await client.query(`do $$ begin for n in 1 .. ${many} loop perform pg_current_xact_id(); commit; end loop; end $$`)
  return BigInt(rows[0]!.number)
}

/**
 * Writes past history into the capture outbox with past times, as the capture itself would have written it. Only
 * this loader can: the triggers take the clock's time. Runs inside the caller's transaction.
 */
export async function loadOutbox(
  client: pg.Client,
  trail: readonly HistoryRow[],
  registered: ReadonlyMap<string, RegisteredTable>,
  spells: readonly PlanSpell[],
  firstTransaction: bigint,
  report: (share: number) => void,
): Promise<void> {
  const { rows } = await client.query<{ value: string }>(`select value from spoor_capture.meta where name = 'salt'`)
  const salt = rows[0]!.value
  function* chunks(): Generator<string> {
    for (let at = 0; at < trail.length; at += chunkRows) {
      yield trail
        .slice(at, at + chunkRows)
        .map((row) => line(row, registered.get(row.table)!, spells, salt, firstTransaction))
        .join('')
      report(Math.min(1, (at + chunkRows) / trail.length))
    }
  }
  await pipeline(Readable.from(chunks()), client.query(copyFrom(`copy spoor_capture.outbox (${columns}) from stdin`)))
}

/** What the label is made of, where part of it is what another record is called. */
function labelOf(row: HistoryRow, { labelColumns, refersTo }: RegisteredTable): string | null {
  if (!labelColumns.some((column) => refersTo.has(column))) return null
  return JSON.stringify({
    refersTo: labelColumns.map((column) => refersTo.get(column) ?? null),
    parts: labelColumns.map((column) => row.row[column] ?? null),
  })
}

function line(
  row: HistoryRow,
  table: RegisteredTable,
  spells: readonly PlanSpell[],
  salt: string,
  firstTransaction: bigint,
): string {
  const delta = Object.entries(row.delta).map(([column, [before, after]]) => {
    const hashed = fingerprintColumns.has(`${row.table}.${column}`)
    const kept = (value: string | null) =>
      hashed && value !== null
        ? createHash('sha256')
            .update(salt + value)
            .digest('hex')
        : value
    return [table.fieldIds.get(column)!, [kept(before), kept(after)]] as const
  })
  const { login, context, applicationName, address } = row.hand
  return copyLine([
    new Date(row.atMs).toISOString(),
    String(firstTransaction + BigInt(row.transaction)),
    table.typeId,
    spells.findLast((spell) => spell.fromMs <= row.atMs)?.version ?? spells[0]!.version,
    row.action,
    row.key,
    null,
    table.parentColumns.length > 0 ? JSON.stringify(table.parentColumns.map((column) => row.row[column])) : null,
    table.labelColumns
      .map((column) => row.row[column])
      .filter((part) => part !== null && part !== undefined)
      .join(' · '),
    labelOf(row, table),
    JSON.stringify(Object.fromEntries(delta)),
    context && JSON.stringify(context),
    login,
    applicationName,
    address,
  ])
}
