import { useLocalStorage } from '@vueuse/core'
import type { ExportColumn } from '@spoor/contract'

/** Columns of the list that can be left out; the record, the time and the values always stand. */
export const choosable = [
  { id: 'who', title: 'Who' },
  { id: 'channel', title: 'Came in by' },
  { id: 'reason', title: 'Reason' },
  { id: 'save', title: 'Save number' },
] as const
export type ColumnId = (typeof choosable)[number]['id']

export function useColumns() {
  return useLocalStorage<ColumnId[]>('spoor.changes.columns', ['who', 'channel'])
}

/** What an export writes for the columns that are shown. */
export function exportColumnsFor(shown: readonly ColumnId[]): ExportColumn[] {
  const has = (id: ColumnId) => shown.includes(id)
  return [
    'time',
    ...(has('who') ? (['who', 'kind', 'onBehalfOf'] as const) : []),
    'type',
    'record',
    'action',
    'field',
    'before',
    'after',
    ...(has('channel') ? (['channel'] as const) : []),
    ...(has('reason') ? (['reason'] as const) : []),
    ...(has('save') ? (['save'] as const) : []),
  ]
}
