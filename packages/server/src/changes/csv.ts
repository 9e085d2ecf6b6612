import { inert } from '../ledger/inert.ts'
import { Transform } from 'node:stream'
import { difference, wallClockText, type ActorKind, type Scope } from '@spoor/core'
import {
  changeSorts,
  exportColumns,
  exportHeadings,
  mostSorted,
  saveSorts,
  type ChangeSort,
  type ExportColumn,
  type SaveSort,
} from '@spoor/contract'
import { stringify } from 'csv-stringify/sync'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { erasedText } from '../ledger/masked.ts'
import { Problem } from '../errors.ts'
import { changesIn, savesIn } from '../ledger/in-scope.ts'
import { whereScope } from '../ledger/scope-sql.ts'
import { sortedChanges, sortedSaves, type Found } from '../ledger/sorted.ts'

export interface ExportRow {
  captured_at: string
  save_id: string
  actor_name: string
  actor_kind: ActorKind
  claimed: boolean
  on_behalf_of: string | null
  type_name: string
  label: string
  record_key: string
  action: string
  field_name: string
  field_id: number
  base_type: string
  before: string | null
  after: string | null
  erased: boolean
  channel: string
  reason: string | null
  db_login: string
}

/** What stands in a file for the values of a change that are not to be read; undefined where they are. */
export type Closed = (row: Pick<ExportRow, 'save_id' | 'field_id'>) => string | undefined

/** A cell as text; null is nothing. */
export function exportCell(row: ExportRow, column: ExportColumn, zone: string, closed: Closed): string | null {
  switch (column) {
    case 'time':
      return wallClockText(row.captured_at, zone)
    case 'who':
      return row.claimed ? `${row.actor_name} (claimed)` : row.actor_name
    case 'kind':
      return row.actor_kind
    case 'onBehalfOf':
      return row.on_behalf_of
    case 'type':
      return row.type_name
    case 'record':
      return row.label
    case 'key':
      return row.record_key
    case 'action':
      return row.action
    case 'field':
      return row.field_name
    case 'before':
      return row.erased ? erasedText : (closed(row) ?? row.before)
    case 'after':
      return row.erased ? erasedText : (closed(row) ?? row.after)
    case 'difference':
      return row.erased || closed(row) !== undefined ? null : differenceCell(row)
    case 'channel':
      return row.channel
    case 'reason':
      return row.reason
    case 'login':
      return row.db_login
    case 'save':
      return row.save_id
  }
}

/** By how much a number moved, or by how many days a day did, so that it can be summed; of anything else nothing. */
function differenceCell({ before, after, base_type }: ExportRow): string | null {
  const moved = difference(before, after, base_type)
  return moved.kind === 'number' || moved.kind === 'days' ? String(moved.by) : null
}

/**
 * Turns rows into CSV (RFC 4180, CRLF). NULL is an empty cell, empty text a quoted one. Times are wall-clock times
 * of `zone` with their offset.
 */
export function csvLines(columns: readonly ExportColumn[] | undefined, zone: string, closed: Closed): Transform {
  const chosen = columns ?? exportColumns
  let lines: (string | null)[][] = [chosen.map((column) => exportHeadings[column])]
  // Many at once, since a step of a stream costs more than a line.
  const written = () => {
    const text = stringify(lines, {
      record_delimiter: 'windows',
      // Every text is quoted, the empty one too, so that only NULL is an empty cell.
      quoted_string: true,
    })
    lines = []
    return text
  }
  return new Transform({
    writableObjectMode: true,
    transform(row: ExportRow, _encoding, done) {
      lines.push(
        chosen.map((column) => {
          const text = exportCell(row, column, zone, closed)
          return text === null ? null : inert(text)
        }),
      )
      done(null, lines.length < linesAtOnce ? undefined : written())
    },
    flush(done) {
      done(null, lines.length > 0 ? written() : undefined)
    },
  })
}

const linesAtOnce = 500

/** The order of the list that is exported. */
export interface ExportOrder {
  list: 'saves' | 'changes'
  sort: SaveSort | ChangeSort
  descending: boolean
}

/**
 * Changes of all scopes with what the export's columns need, in a list's order, to be streamed.
 * @throws Problem when there is more than can be put in another order than that of time, or the list has no such order
 */
export async function exportQuery(
  db: Database,
  scopes: readonly Scope[],
  { list, sort, descending }: ExportOrder,
  masked: ReadonlySet<number>,
  nowMs: number,
) {
  const query = db('ledger.change as c')
    .join('ledger.save as s', (on) => on.on('s.id', 'c.save_id').andOn('s.captured_at', 'c.captured_at'))
    .join('spoor.actor as a', 'a.id', 'c.actor_id')
    .join('spoor.record_type as t', 't.id', 'c.type_id')
    .join('spoor.field as f', 'f.id', 'c.field_id')
  for (const scope of scopes) whereScope(query, scope, 'change', 'c', nowMs)
  const order = descending ? 'desc' : 'asc'
  if (sort === 'time')
    query.orderBy([{ column: 'c.captured_at', order }, { column: 'c.save_id', order }, { column: 'c.field_id' }])
  else {
    const request = { after: undefined, limit: mostSorted, descending }
    const { rows } =
      list === 'saves'
        ? await sortedSaves(db, savesIn(db, scopes, nowMs)[0], among(saveSorts, sort), request)
        : await sortedChanges(db, changesIn(db, scopes, nowMs), among(changeSorts, sort), { ...request, masked })
    inPlaces(query, rows)
  }
  query.select(
    'c.captured_at',
    'c.save_id',
    'a.name as actor_name',
    'c.actor_kind',
    's.claimed',
    's.on_behalf_of',
    't.name as type_name',
    's.label',
    'c.record_key',
    's.action',
    'f.name as field_name',
    'c.field_id',
    'f.base_type',
    'c.before',
    'c.after',
    'c.erased',
    's.channel',
    's.reason',
    's.db_login',
  )
  return { stream: () => query.stream({ highWaterMark: 500 }), limited: (most: number) => query.limit(most) }
}

/** Only the changes of what was found, in its order; a save stands for all its changes. */
function inPlaces(query: Knex.QueryBuilder, found: readonly Found[]): void {
  query
    .joinRaw(
      `join unnest(?::timestamptz[], ?::bigint[], ?::int[]) with ordinality as w(captured_at, save_id, field_id, place)
         on w.captured_at = c.captured_at and w.save_id = c.save_id and coalesce(w.field_id, c.field_id) = c.field_id`,
      [found.map((row) => row.captured_at), found.map((row) => row.id), found.map((row) => row.field_id ?? null)].map(
        boundArray,
      ) as never,
    )
    .orderBy(['w.place', 'c.field_id'])
}

function among<S extends string>(sorts: readonly S[], sort: string): Exclude<S, 'time'> {
  const found = sorts.find((one) => one === sort)
  if (found === undefined || found === 'time') throw new Problem('bad-request', `The list has no order by ${sort}.`)
  return found as Exclude<S, 'time'>
}
