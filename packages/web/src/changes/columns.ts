import type { ExportColumn } from '@spoor/contract'
import type { Column } from '../frame/layout.ts'

/** The columns of the list of saves. */
export const saveColumns = [
  { id: 'time', title: 'Time', width: 44, fixed: true },
  { id: 'who', title: 'Who', width: 160 },
  { id: 'record', title: 'Record', width: 220, fixed: true },
  { id: 'values', title: 'Before and after', width: 150, grows: true, fixed: true },
  { id: 'channel', title: 'Came in by', width: 86 },
  { id: 'reason', title: 'Reason', width: 150, hidden: true },
  { id: 'save', title: 'Save number', width: 84, hidden: true },
] as const satisfies readonly Column<string>[]
export type SaveColumn = (typeof saveColumns)[number]['id']

/** The columns of the list of changes. */
export const changeColumns = [
  { id: 'time', title: 'Time', width: 118, fixed: true },
  { id: 'who', title: 'Who', width: 150 },
  { id: 'record', title: 'Record', width: 120, grows: true, fixed: true },
  { id: 'field', title: 'Field', width: 120, fixed: true },
  { id: 'before', title: 'Before', width: 110, grows: true },
  { id: 'after', title: 'After', width: 110, grows: true },
  { id: 'difference', title: 'Difference', width: 156 },
  { id: 'channel', title: 'Came in by', width: 86, hidden: true },
  { id: 'reason', title: 'Reason', width: 150, hidden: true },
] as const satisfies readonly Column<string>[]
export type ChangeColumn = (typeof changeColumns)[number]['id']

const written: Readonly<Record<SaveColumn, readonly ExportColumn[]>> = {
  time: ['time'],
  who: ['who', 'kind', 'onBehalfOf'],
  record: ['type', 'record'],
  values: ['action', 'field', 'before', 'after'],
  channel: ['channel'],
  reason: ['reason'],
  save: ['save'],
}

const writtenOfChanges: Readonly<Record<ChangeColumn, readonly ExportColumn[]>> = {
  time: ['time'],
  who: ['who', 'kind', 'onBehalfOf'],
  record: ['type', 'record'],
  field: ['action', 'field'],
  before: ['before'],
  after: ['after'],
  difference: ['difference'],
  channel: ['channel'],
  reason: ['reason'],
}

/** What an export writes for the columns of a list that are shown, in their order. */
export function exportColumnsFor(list: 'saves' | 'changes', shown: readonly { id: string }[]): ExportColumn[] {
  return list === 'saves'
    ? shown.flatMap(({ id }) => written[id as SaveColumn])
    : shown.flatMap(({ id }) => writtenOfChanges[id as ChangeColumn])
}
