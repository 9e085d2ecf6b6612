import { keyColumns, trackedColumns, type TrackedTable } from './tracked.ts'
import type { Account, DatabaseLogin, Officer } from '../larkmere/staff.ts'

/** A row as PostgreSQL's text, by column; null is NULL. */
export type Row = Record<string, string | null>

/** Who makes a save, as the capture would find it in the transaction. */
export interface Hand {
  login: DatabaseLogin
  /** Null when nobody said who acts. */
  context: { actor: string; kind: string; channel: string; onBehalfOf?: string; run?: string; reason?: string } | null
  applicationName: string
  address: string
}

export interface HistoryRow {
  atMs: number
  transaction: number
  table: TrackedTable
  action: 'create' | 'change' | 'delete'
  key: string
  /** The row as it was when the save was made, for its label. */
  row: Row
  delta: Record<string, [string | null, string | null]>
  hand: Hand
}

export function officerHand(officer: Officer, reason?: string): Hand {
  return {
    login: 'desk_app',
    context: { actor: officer.name, kind: 'person', channel: 'screen', ...(reason ? { reason } : {}) },
    applicationName: 'the desk',
    address: `10.2.0.${10 + officer.id}`,
  }
}

export function accountHand(account: Account, run?: string, onBehalfOf?: string): Hand {
  return {
    login: account.login,
    context: {
      actor: account.name,
      kind: account.kind,
      channel: account.channel,
      ...(run ? { run } : {}),
      ...(onBehalfOf ? { onBehalfOf } : {}),
    },
    applicationName: account.name.toLowerCase(),
    address: account.kind === 'delegate' ? '203.0.113.7' : '10.2.1.4',
  }
}

/** A hand in a terminal: nobody said who it was. */
export const terminalHand: Hand = { login: 'maint_ro', context: null, applicationName: 'psql', address: '10.2.9.31' }

/**
 * Larkmere's state and its trail. Every change of a row goes through here, so that the two cannot disagree: what
 * is recorded is what the capture would have recorded.
 */
export class Recorder {
  readonly tables = new Map<TrackedTable, Map<string, Row>>()
  readonly trail: HistoryRow[] = []
  /** Columns, as `table.column`, that are not being captured at the moment. */
  readonly unseen = new Set<string>()
  /** Keys of rows whose unseen columns changed. */
  readonly changedUnseen = new Set<string>()
  #transaction = 0

  table(table: TrackedTable): Map<string, Row> {
    let rows = this.tables.get(table)
    if (!rows) this.tables.set(table, (rows = new Map()))
    return rows
  }

  row(table: TrackedTable, id: string | number): Row {
    const row = this.table(table).get(keyOf([String(id)]))
    if (!row) throw new Error(`no ${table} ${id}`)
    return row
  }

  /** A row that was there before the history begins. */
  found(table: TrackedTable, row: Row): void {
    const whole = derived(table, row)
    this.table(table).set(rowKey(table, whole), whole)
  }

  begin(): number {
    return ++this.#transaction
  }

  create(table: TrackedTable, row: Row, atMs: number, hand: Hand, transaction = this.begin()): void {
    const whole = derived(table, row)
    this.table(table).set(rowKey(table, whole), whole)
    this.#record('create', table, {}, whole, atMs, hand, transaction)
  }

  change(
    table: TrackedTable,
    key: string | number | readonly string[],
    patch: Row,
    atMs: number,
    hand: Hand,
    transaction = this.begin(),
  ): void {
    const at = keyOf(Array.isArray(key) ? (key as string[]) : [String(key)])
    const before = this.table(table).get(at)
    if (!before) return
    const after = derived(table, { ...before, ...patch })
    this.table(table).set(at, after)
    this.#record('change', table, before, after, atMs, hand, transaction)
  }

  remove(table: TrackedTable, key: readonly string[], atMs: number, hand: Hand, transaction: number): void {
    const before = this.table(table).get(keyOf(key))
    if (!before) return
    this.table(table).delete(keyOf(key))
    this.#record('delete', table, before, {}, atMs, hand, transaction)
  }

  #record(
    action: HistoryRow['action'],
    table: TrackedTable,
    before: Row,
    after: Row,
    atMs: number,
    hand: Hand,
    transaction: number,
  ): void {
    const delta: HistoryRow['delta'] = {}
    for (const column of trackedColumns[table]) {
      const [was, is] = [before[column] ?? null, after[column] ?? null]
      if (was === is) continue
      if (this.unseen.has(`${table}.${column}`)) this.changedUnseen.add(rowKey(table, { ...before, ...after }))
      else delta[column] = [was, is]
    }
    if (action === 'change' && Object.keys(delta).length === 0) return
    const row = action === 'delete' ? before : after
    this.trail.push({ atMs, transaction, table, action, key: rowKey(table, row), row, delta, hand })
  }
}

function keyOf(parts: readonly string[]): string {
  return JSON.stringify(parts)
}

export function rowKey(table: TrackedTable, row: Row): string {
  return keyOf(keyColumns[table].map((column) => row[column]!))
}

export function money(amount: number): string {
  return amount.toFixed(2)
}

/** What Larkmere's own triggers and generated columns make of a row. */
function derived(table: TrackedTable, row: Row): Row {
  if (table === 'lettings.tenancy') {
    const cents = Math.round(Number(row['weekly_rent']) * 100)
    // PostgreSQL rounds a numeric half away from zero; rents are positive and whole cents keep this exact.
    const monthly = Math.floor((cents * 52 * 2 + 12) / 24)
    const balanceCents = Math.round(Number(row['balance']) * 100)
    const arrears = balanceCents <= 0 ? 'clear' : balanceCents < 4 * cents ? 'watch' : 'action'
    return { ...row, monthly_rent: money(monthly / 100), arrears_status: arrears }
  }
  if (table === 'repairs.repair_line') {
    const product = Math.round(Number(row['quantity']) * 100) * Math.round(Number(row['unit_price']) * 100)
    return { ...row, amount: money(Math.round(product / 100) / 100) }
  }
  return row
}
