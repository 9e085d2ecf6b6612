import type { CapturedValue } from '../value/type.ts'

export type SaveAction = 'create' | 'change' | 'delete'

/** Before and after of one field, by field id. */
export type Delta = Readonly<Record<string, readonly [before: CapturedValue, after: CapturedValue]>>

/** What folding needs to know of a captured row; rows may carry more. */
export interface CapturedRow {
  transaction: string
  typeId: number
  /** Canonical JSON text of the key's values. */
  key: string
  action: SaveAction
  delta: Delta
}

/**
 * Puts together the rows that one transaction made to one record, so that a save is what the person did and not
 * how many statements it took: a business trigger that recomputes a field with a second UPDATE belongs to the
 * save that caused it. Rows are joined only while their fields are disjoint and both are changes, so no value
 * that was ever captured disappears. Order is that of each save's first row; `rows` must be in capture order.
 * What else rows carry is that of the first, unless `merge` takes something of the later one.
 */
export function foldRows<R extends CapturedRow>(
  rows: readonly R[],
  merge: (first: R, later: R) => R = (first) => first,
): R[] {
  const folded: R[] = []
  const open = new Map<string, number>()
  for (const row of rows) {
    const identity = `${row.transaction}\n${row.typeId}\n${row.key}`
    const at = open.get(identity)
    const earlier = at === undefined ? undefined : folded[at]
    if (at !== undefined && earlier && joins(earlier, row)) {
      folded[at] = { ...merge(earlier, row), delta: { ...earlier.delta, ...row.delta } }
    } else {
      open.set(identity, folded.length)
      folded.push(row)
    }
  }
  return folded
}

function joins(earlier: CapturedRow, later: CapturedRow): boolean {
  if (earlier.action !== 'change' || later.action !== 'change') return false
  return Object.keys(later.delta).every((field) => !(field in earlier.delta))
}
