import { spoken } from '@spoor/core'
import type { DiscoveredTable } from './discover.ts'

export function plural(noun: string): string {
  if (/[^aeiou]y$/.test(noun)) return `${noun.slice(0, -1)}ies`
  if (/(s|x|z|ch|sh)$/.test(noun)) return /[^s]s$/.test(noun) ? noun : `${noun}es`
  return `${noun}s`
}

export function typeName(table: string): string {
  return spoken(table)
}

/** Columns that name a record by themselves, and those that help beside its key; best first. */
const naming = ['reference', 'ref', 'full_name', 'name', 'title', 'label']
const helping = ['description', 'address', 'subject']

/** The columns that best name a record to a person: the key when short of anything better. */
export function proposeLabel(table: DiscoveredTable): string[] {
  const byName = new Map(table.columns.map((column) => [column.name.toLowerCase(), column.name]))
  const first = (wanted: readonly string[]) => wanted.flatMap((name) => byName.get(name) ?? []).slice(0, 1)
  const name = first(naming)
  return name.length > 0 ? name : [...table.keyColumns, ...first(helping)]
}
