import { capitalised, spoken } from '@spoor/core'
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

function firstOf(table: DiscoveredTable, wanted: readonly string[]): string[] {
  const byName = new Map(table.columns.map((column) => [column.name.toLowerCase(), column.name]))
  return wanted.flatMap((name) => byName.get(name) ?? []).slice(0, 1)
}

/** So many of the records that one refers to help to name it. */
const mostReferred = 2

/**
 * The columns that best name a record to a person: its own name, else its key with what helps beside it; where nothing
 * of its own does, what it cannot be without and is known by a name. A line stands below its parent, who is not named again.
 */
export function proposeLabel(table: DiscoveredTable, all: ReadonlyMap<number, DiscoveredTable>): string[] {
  const name = firstOf(table, naming)
  if (name.length > 0) return name
  const help = firstOf(table, helping)
  if (help.length > 0) return [...table.keyColumns, ...help]
  const parent = proposeParent(table, all)
  const referred = keyReferences(table, all).flatMap((one) => {
    const to = all.get(one.toRelationId)!
    const known = one.columns.length === 1 && one.required && to !== table && one.toRelationId !== parent?.toRelationId
    return known && firstOf(to, [...naming, ...helping]).length > 0 ? one.columns : []
  })
  const inOrder = table.columns.map((column) => column.name).filter((one) => referred.includes(one))
  return [...new Set([...table.keyColumns, ...inOrder.slice(0, mostReferred)])]
}

/** How many tables of one schema must share the first word of their name to stand as a group of their own. */
const leastGroup = 3

/** Where a table stands on the map: its schema, or in a schema of everything the first word it shares with others. */
export function proposeArea(table: DiscoveredTable, all: readonly DiscoveredTable[]): string {
  const stem = (name: string) => spoken(name).split(' ')[0]!
  if (table.schema !== 'public') return capitalised(spoken(table.schema))
  const alike = all.filter((one) => one.schema === table.schema && stem(one.table) === stem(table.table))
  return alike.length >= leastGroup ? capitalised(stem(table.table)) : 'Public'
}

/** A reference that holds a whole key of the other table, its columns in the order of that key. */
export interface KeyReference {
  columns: string[]
  toRelationId: number
  cascades: boolean
  required: boolean
}

export function keyReferences(table: DiscoveredTable, all: ReadonlyMap<number, DiscoveredTable>): KeyReference[] {
  return table.foreignKeys.flatMap((reference) => {
    const to = all.get(reference.toRelationId)
    if (!to || to.keyColumns.length !== reference.toColumns.length) return []
    const columns = to.keyColumns.flatMap((name) => reference.columns[reference.toColumns.indexOf(name)] ?? [])
    if (columns.length !== to.keyColumns.length) return []
    const required = columns.every((name) => table.columns.find((column) => column.name === name)?.required)
    return [{ columns, toRelationId: reference.toRelationId, cascades: reference.cascades, required }]
  })
}

/**
 * Whose lines a table holds, as far as its shape says: it cannot be without exactly one other row, goes when that
 * goes, and nothing refers to it in its turn.
 */
export function proposeParent(
  table: DiscoveredTable,
  all: ReadonlyMap<number, DiscoveredTable>,
): KeyReference | undefined {
  const owners = keyReferences(table, all).filter(
    (one) => one.cascades && one.required && one.toRelationId !== table.relationId,
  )
  if (owners.length !== 1) return undefined
  const referred = [...all.values()].some((other) =>
    other.foreignKeys.some((key) => key.toRelationId === table.relationId),
  )
  return referred ? undefined : owners[0]
}
