import type { CapturedValue } from '../value/type.ts'
import { inOrder, threadsOf } from './order.ts'

export type SaveAction = 'create' | 'change' | 'delete'

/** Before and after of one field, by field id. */
export type Delta = Readonly<Record<string, readonly [before: CapturedValue, after: CapturedValue]>>

/** What ordering and folding need to know of a captured row; rows may carry more. */
export interface CapturedRow {
  transaction: string
  /** When it was captured: the same for all rows of one statement. */
  at: string
  typeId: number
  /** Canonical JSON text of the key's values. */
  key: string
  /** The key it had before, where that is another. */
  keyBefore: string | null
  action: SaveAction
  delta: Delta
}

/**
 * Puts together the rows that one transaction made to one record, so that a save is what the person did and not
 * how many statements it took: a business trigger that recomputes a field with a second UPDATE belongs to the
 * save that caused it. Rows are joined only while their fields are disjoint, both are changes and the key stays as it
 * is, so no value that was ever captured disappears. A record is followed through changes of its key: what stands
 * under a key later need not be what stood there before. Saves come in the order in which their first rows came about;
 * `rows` are in capture order, `taken` as for {@link inOrder}. What else rows carry is that of the first, unless
 * `merge` takes something of the later.
 */
export function foldRows<R extends CapturedRow>(
  rows: readonly R[],
  merge: (first: R, later: R) => R = (first) => first,
  taken?: ReadonlySet<string>,
): R[] {
  const ordered = inOrder(rows, taken)
  const threadOf = recordsOf(ordered)
  const folded: R[] = []
  const open = new Map<string, number>()
  for (const row of ordered) {
    const record = threadOf.get(row)!
    const at = open.get(record)
    const earlier = at === undefined ? undefined : folded[at]
    if (at !== undefined && earlier && joins(earlier, row)) {
      folded[at] = { ...merge(earlier, row), delta: { ...earlier.delta, ...row.delta } }
    } else {
      open.set(record, folded.length)
      folded.push(row)
    }
  }
  return folded
}

/** The record each row is of, by a name that holds within the rows. */
function recordsOf<R extends CapturedRow>(ordered: readonly R[]): Map<R, string> {
  const groups = new Map<string, R[]>()
  for (const row of ordered) {
    const name = `${row.transaction}\n${row.typeId}`
    const group = groups.get(name)
    if (group) group.push(row)
    else groups.set(name, [row])
  }
  const records = new Map<R, string>()
  for (const [name, group] of groups)
    for (const [at, thread] of threadsOf(group).entries()) records.set(group[at]!, `${name}\n${thread}`)
  return records
}

function joins(earlier: CapturedRow, later: CapturedRow): boolean {
  if (earlier.action !== 'change' || later.action !== 'change') return false
  if (earlier.keyBefore !== null || later.keyBefore !== null) return false
  return Object.keys(later.delta).every((field) => !(field in earlier.delta))
}
