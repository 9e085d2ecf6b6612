import type { CapturedValue } from '../value/type.ts'
import type { CapturedRow } from './fold.ts'

/**
 * The order in which rows of one transaction came about. Triggers capture a statement when it ends, and put what was
 * done because of it behind it. What they cannot see is put right here, from what the rows say themselves: a record is
 * there or not, holds one value at a time, and is met once at most by one statement.
 */

/** What is known of a key at some moment of a transaction; a key that was not met yet is unknown. */
interface Known {
  there: boolean
  /** The record's number among those of the transaction. */
  thread: number
  values: Readonly<Record<string, CapturedValue>>
  /** Whether a field that is not among the values is known to be NULL. */
  whole: boolean
}

type State = Map<string, Known>

/** Rows of one statement, which all happen at once: those that move keys may exchange them. */
type Step<R> = readonly R[]

const fromKey = (row: CapturedRow) => row.keyBefore ?? row.key
const afterOf = (row: CapturedRow) =>
  Object.fromEntries(Object.entries(row.delta).map(([field, [, now]]) => [field, now]))

/** Does a step to a state. @returns whether it can have been done in it; where not, the state is of no more use. */
function done(state: State, step: Step<CapturedRow>, newThread: () => number): boolean {
  const leaving: [string, Known][] = []
  const arriving: [string, Known][] = []
  for (const row of step) {
    if (row.action === 'create') {
      arriving.push([row.key, { there: true, thread: newThread(), values: afterOf(row), whole: true }])
      continue
    }
    const from = fromKey(row)
    const known = state.get(from)
    if (known && !fits(known, row)) return false
    const thread = known?.thread ?? newThread()
    if (row.action === 'delete' || row.keyBefore !== null)
      leaving.push([from, { there: false, thread, values: {}, whole: true }])
    if (row.action === 'change')
      arriving.push([
        row.key,
        { there: true, thread, values: { ...known?.values, ...afterOf(row) }, whole: known?.whole ?? false },
      ])
  }
  for (const [key, known] of leaving) state.set(key, known)
  for (const [key, known] of arriving) {
    const before = state.get(key)
    if (before?.there && before.thread !== known.thread) return false
    state.set(key, known)
  }
  return true
}

function fits({ there, values, whole }: Known, row: CapturedRow): boolean {
  if (!there) return false
  // A deletion tells of everything that was there.
  const told = Object.entries(values).every(([field, value]) => value === null || field in row.delta)
  if (row.action === 'delete' && whole && !told) return false
  return Object.entries(row.delta).every(([field, [before]]) =>
    field in values ? values[field] === before : !whole || before === null,
  )
}

/** Rows that share keys, directly or by way of others: nothing else has a say in their order. */
function related<R extends CapturedRow>(rows: readonly R[]): R[][] {
  const groupOf = new Map<string, R[]>()
  for (const row of rows) {
    const [a, b] = [groupOf.get(row.key), groupOf.get(fromKey(row))]
    const group = a ?? b ?? []
    group.push(row)
    if (a && b && a !== b) {
      for (const other of b) {
        group.push(other)
        groupOf.set(other.key, group)
        groupOf.set(fromKey(other), group)
      }
    }
    groupOf.set(row.key, group)
    groupOf.set(fromKey(row), group)
  }
  return [...new Set(groupOf.values())]
}

/** Rows of one statement go together; among them, a place is left before it is taken, where they do not go in a ring. */
function stepsOf<R extends CapturedRow>(rows: readonly R[]): Step<R>[] {
  const steps: R[][] = []
  const met = new Set<string>()
  for (const row of rows) {
    const last = steps.at(-1)
    if (last && last[0]!.at === row.at && last[0]!.action === row.action && !met.has(fromKey(row))) last.push(row)
    else {
      steps.push([row])
      met.clear()
    }
    met.add(fromKey(row))
  }
  return steps.map((step) => (step.some((row) => row.keyBefore !== null) ? leavingFirst(step) : step))
}

function leavingFirst<R extends CapturedRow>(step: readonly R[]): R[] {
  const leaving = new Map(step.filter((row) => row.keyBefore !== null).map((row) => [row.keyBefore!, row]))
  const ordered = new Set<R>()
  const met = new Set<R>()
  for (const first of step) {
    const chain: R[] = []
    for (let row: R | undefined = first; row && !met.has(row); row = leaving.get(row.key)) {
      met.add(row)
      chain.push(row)
    }
    for (const row of chain.reverse()) ordered.add(row)
  }
  return [...ordered]
}

const mostSteps = 40
const mostTries = 4000

/** The steps in an order in which all of them can have been done, as near as can be to the given one. */
function possible<R extends CapturedRow>(steps: readonly Step<R>[]): readonly Step<R>[] {
  const search = new Search<R>()
  if (search.possible(steps) || steps.length > mostSteps) return steps
  return search.find(steps) ?? steps
}

class Search<R extends CapturedRow> {
  #threads = 0
  #tries = 0

  readonly #newThread = () => ++this.#threads

  possible(steps: readonly Step<R>[]): boolean {
    const state: State = new Map()
    return steps.every((step) => done(state, step, this.#newThread))
  }

  find(left: readonly Step<R>[], state: State = new Map()): Step<R>[] | null {
    if (left.length === 0) return []
    for (const [at, step] of left.entries()) {
      if (this.#tries++ > mostTries) return null
      const next: State = new Map(state)
      if (!done(next, step, this.#newThread)) continue
      const rest = this.find([...left.slice(0, at), ...left.slice(at + 1)], next)
      if (rest !== null) return [step, ...rest]
    }
    return null
  }
}

/** The rows of one transaction and type, in capture order, as they came about. */
export function asCameAbout<R extends CapturedRow>(rows: readonly R[]): R[] {
  if (rows.length === 1) return [...rows]
  const steps = stepsOf(rows)
  const whole = steps.flat()
  if (new Search<R>().possible(steps)) return whole
  const placeOf = new Map(whole.map((row, at) => [row, at]))
  const ordered = new Map<R, number>()
  for (const group of related(whole)) {
    const sorted = group.toSorted((a, b) => placeOf.get(a)! - placeOf.get(b)!)
    const places = sorted.map((row) => placeOf.get(row)!)
    for (const [at, row] of possible(stepsOf(sorted)).flat().entries()) ordered.set(row, places[at]!)
  }
  return whole.toSorted((a, b) => ordered.get(a)! - ordered.get(b)!)
}

/**
 * Rows of many transactions in the order in which they came about. A transaction's rows are only ever moved later
 * among those of others: it keeps what it wrote locked until it ends, so nobody else came between.
 *
 * Where a key is checked only when a transaction ends, one may bring a record under it before another's has left.
 * `taken` are the places ({@link recordPlace}) among {@link contested} where a record stood before all these rows.
 */
export function inOrder<R extends CapturedRow>(rows: readonly R[], taken: ReadonlySet<string> = new Set()): R[] {
  const groups = new Map<string, { row: R; at: number }[]>()
  for (const [at, row] of rows.entries()) {
    const name = `${row.transaction}\n${row.typeId}`
    const group = groups.get(name)
    if (group) group.push({ row, at })
    else groups.set(name, [{ row, at }])
  }
  const placed: { row: R; at: number }[] = []
  for (const group of groups.values()) {
    const placeOf = new Map(group.map(({ row, at }) => [row, at]))
    let latest = -1
    for (const row of asCameAbout(group.map((one) => one.row))) {
      latest = Math.max(latest, placeOf.get(row)!)
      placed.push({ row, at: latest })
    }
  }
  placed.sort((a, b) => a.at - b.at)
  if (taken.size > 0) waitForRoom(placed, taken)
  return placed.map((one) => one.row)
}

const leaves = (row: CapturedRow) => row.action === 'delete' || row.keyBefore !== null
const arrives = (row: CapturedRow) => row.action === 'create' || row.keyBefore !== null

/** A record's place: its type and its key. */
export function recordPlace(typeId: number, key: string): string {
  return `${typeId}\n${key}`
}

/** What a statement did happens at once: records that exchange their places leave all of them before any arrives. */
const statementOf = (row: CapturedRow) => `${row.transaction}\n${row.typeId}\n${row.at}`

/** The rows with which each statement leaves places at once: the first of each place. */
function leavings(rows: readonly CapturedRow[]): Map<string, Map<string, CapturedRow>> {
  const left = new Map<string, Map<string, CapturedRow>>()
  for (const row of rows.filter(leaves)) {
    const statement = statementOf(row)
    const own = left.get(statement) ?? new Map<string, CapturedRow>()
    const place = leftBy(row)
    if (!own.has(place)) own.set(place, row)
    left.set(statement, own)
  }
  return left
}

const leftBy = (row: CapturedRow) => recordPlace(row.typeId, fromKey(row))

/**
 * What places are left by a row, as rows are met one by one: all that its statement leaves with its first row, and once
 * more what it leaves again, as a deletion does that took what came back because of it.
 */
class Leaving {
  readonly #left: ReadonlyMap<string, ReadonlyMap<string, CapturedRow>>
  readonly #begun = new Set<string>()

  constructor(rows: readonly CapturedRow[]) {
    this.#left = leavings(rows)
  }

  /** Whether a row's statement leaves a place at once. */
  isLeft(row: CapturedRow, place: string): boolean {
    return this.#left.get(statementOf(row))?.has(place) ?? false
  }

  /** With whose key each place is left. */
  *by(row: CapturedRow): Generator<[place: string, CapturedRow]> {
    const statement = statementOf(row)
    const own = this.#left.get(statement)
    if (!this.#begun.has(statement)) {
      this.#begun.add(statement)
      yield* own ?? []
    }
    if (leaves(row) && own?.get(leftBy(row)) !== row) yield [leftBy(row), row]
  }
}

/** A place at which a transaction's record arrives before that of another leaves. */
export interface ContestedPlace {
  typeId: number
  key: string
  /** The transaction of the one that arrives first. */
  arriving: string
}

/** Places at which one transaction's record arrives before that of another leaves, as the rows stand. */
export function contested(rows: readonly CapturedRow[]): ContestedPlace[] {
  const leaving = new Leaving(rows)
  const arrived = new Map<string, string>()
  const found = new Map<string, ContestedPlace>()
  for (const row of rows) {
    for (const [place, left] of leaving.by(row)) {
      const by = arrived.get(place)
      if (by !== undefined && by !== row.transaction && !found.has(place))
        found.set(place, { typeId: left.typeId, key: fromKey(left), arriving: by })
      arrived.delete(place)
    }
    if (arrives(row)) arrived.set(recordPlace(row.typeId, row.key), row.transaction)
  }
  return [...found.values()]
}

/** Whether a record stands at each place that rows, in the order in which they came about, came to or left. */
export function placesAfter(rows: readonly CapturedRow[]): Map<string, boolean> {
  const leaving = new Leaving(rows)
  const there = new Map<string, boolean>()
  for (const row of rows) {
    for (const [place] of leaving.by(row)) there.set(place, false)
    if (row.action !== 'delete') there.set(recordPlace(row.typeId, row.key), true)
  }
  return there
}

/** Moves what a transaction did from its arrival at a place on behind the row with which another left it. */
function waitForRoom<R extends CapturedRow>(placed: { row: R; at: number }[], taken: ReadonlySet<string>): void {
  const leaving = new Leaving(placed.map((one) => one.row))
  const there = new Set(taken)
  /** Whom each row waited for: never twice for the same, or two that wait for one another would go on for ever. */
  const waited = new Map<R, Set<R>>()
  for (let n = 0; n < placed.length; n++) {
    const { row } = placed[n]!
    const place = arrives(row) ? recordPlace(row.typeId, row.key) : null
    const until =
      place !== null && there.has(place) && !leaving.isLeft(row, place)
        ? placed.findIndex(
            ({ row: other }, at) =>
              at > n &&
              other.transaction !== row.transaction &&
              leaves(other) &&
              recordPlace(other.typeId, fromKey(other)) === place &&
              !waited.get(row)?.has(other),
          )
        : -1
    if (until < 0) {
      for (const [left] of leaving.by(row)) there.delete(left)
      if (place !== null) there.add(place)
      continue
    }
    waited.set(row, (waited.get(row) ?? new Set<R>()).add(placed[until]!.row))
    const waiting = placed.slice(n, until).filter((one) => one.row.transaction === row.transaction)
    const others = placed.slice(n, until + 1).filter((one) => one.row.transaction !== row.transaction)
    placed.splice(n, until + 1 - n, ...others, ...waiting)
    n--
  }
}

/**
 * Which record of the transaction each row is of, by a number: one record keeps its number when its key changes, and
 * what takes over a key is another one. `rows` are of one transaction and type, as they came about.
 */
export function threadsOf(rows: readonly CapturedRow[]): number[] {
  const at = new Map<string, number>()
  const threads = new Map<CapturedRow, number>()
  let count = 0
  for (const step of stepsOf(rows)) {
    const arriving: [string, number][] = []
    for (const row of step) {
      const from = fromKey(row)
      const thread = (row.action === 'create' ? undefined : at.get(from)) ?? ++count
      threads.set(row, thread)
      if (row.action === 'delete' || row.keyBefore !== null) at.delete(from)
      if (row.action !== 'delete') arriving.push([row.key, thread])
    }
    for (const [key, thread] of arriving) at.set(key, thread)
  }
  return rows.map((row) => threads.get(row)!)
}
