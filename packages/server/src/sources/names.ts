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

const nameLike = ['reference', 'ref', 'number', 'code', 'full_name', 'name', 'title', 'label', 'description', 'address']

/** The columns that best name a record to a person: the key when short of anything better. At most two. */
export function proposeLabel(table: DiscoveredTable): string[] {
  const byName = new Map(table.columns.map((column) => [column.name.toLowerCase(), column.name]))
  const found = nameLike.flatMap((name) => byName.get(name) ?? [])
  return found.length > 0 ? found.slice(0, 2) : table.keyColumns
}
