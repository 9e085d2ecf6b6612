import { quoteIdentifier as id } from '../database/identifier.ts'
import {
  captureEvents,
  isByRow,
  qualified,
  rowTriggerName,
  triggerPrefix,
  type CapturedTable,
  type CaptureEvent,
  type RowEvent,
  type TableName,
  type TriggerPlaces,
} from './table.ts'

const transitionTables: Readonly<Record<RowEvent, string>> = {
  insert: 'referencing new table as new_rows',
  update: 'referencing old table as old_rows new table as new_rows',
  delete: 'referencing old table as old_rows',
}

/** Events that statement triggers of a table tell of. Of one whose rows come through others, only TRUNCATE. */
export function statementEvents(table: CapturedTable): readonly CaptureEvent[] {
  return isByRow(table) ? ['truncate'] : captureEvents
}

/** Whether statements leave a mark when they begin, by which what was written meanwhile is put in order. */
export function marks({ nests, partitioned }: CapturedTable): boolean {
  return nests || partitioned
}

export function statementTrigger(typeId: number, event: CaptureEvent, on: TableName): string {
  const name = `${triggerPrefix(typeId)}${event}`
  const [when, referencing] = event === 'truncate' ? ['before', ''] : ['after', ` ${transitionTables[event]}`]
  return `
create trigger ${name} ${when} ${event} on ${qualified(on)}${referencing}
  for each statement execute function spoor_capture.${name}();
alter table ${qualified(on)} enable always trigger ${name};
`
}

export function beginTrigger(typeId: number, on: TableName): string {
  const name = `${triggerPrefix(typeId)}begin`
  return `
create trigger ${name} before insert or update or delete on ${qualified(on)}
  for each statement execute function spoor_capture.begin_statement();
alter table ${qualified(on)} enable always trigger ${name};
`
}

export function uninstallTriggers({ typeId, descendants, ancestors, partitioned, ...table }: TriggerPlaces): string {
  const names = [...captureEvents, 'begin', 'end'].map((event) => `${triggerPrefix(typeId)}${event}`)
  const row = id(rowTriggerName(typeId))
  const drops = [table, ...descendants, ...ancestors].flatMap((on) =>
    names.map((name) => `drop trigger if exists ${name} on ${qualified(on)};\n`),
  )
  // Partitions lose theirs with the root's and cannot without it.
  const rows = [table, ...(partitioned ? [] : descendants)].map(
    (on) => `drop trigger if exists ${row} on ${qualified(on)};\n`,
  )
  return `\n${[...drops, ...rows].join('')}`
}

/** Removes what {@link captureSql} installed. */
export function uninstallSql(places: TriggerPlaces): string {
  const functions = [...captureEvents, 'row'].map(
    (event) => `drop function if exists spoor_capture.${triggerPrefix(places.typeId)}${event}();\n`,
  )
  return `${uninstallTriggers(places)}${functions.join('')}`
}
