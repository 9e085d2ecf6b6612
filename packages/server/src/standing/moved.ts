/** A save that gave a record another key; those of one statement happen at once. */
export interface Move {
  id: string
  /** The same for all moves of one statement. */
  statement: string
  was: string
  key: string
}

/** While saves had these numbers, from one, included, to another, not included, a key was that of a record with this one now. */
export interface KeyHeld {
  was: string
  from: string
  /** Null is until now. */
  until: string | null
  /** Null where nobody has the key of that record any more: another came to it. */
  now: string | null
}

/** Whose each key was, where it is not that of the record that has it now. @param moves in the order of the ledger */
export function keysHeld(moves: readonly Move[]): KeyHeld[] {
  const held: KeyHeld[] = []
  const later = new Map<string, Pick<KeyHeld, 'until' | 'now'>>()
  const after = (key: string) => later.get(key) ?? { until: null, now: key }
  const put = (was: string, from: string) => {
    const { until, now } = after(was)
    if (now !== was) held.push({ was, from, until, now })
  }
  // The latest first: where a key leads is known before those who came to it are met.
  for (let end = moves.length; end > 0;) {
    let begin = end - 1
    while (begin > 0 && moves[begin - 1]!.statement === moves[begin]!.statement) begin--
    const step = moves.slice(begin, end)
    const from = step[0]!.id
    const before = new Map<string, string | null>(step.map(({ key }) => [key, null]))
    for (const { was, key } of step) before.set(was, after(key).now)
    for (const key of before.keys()) put(key, from)
    for (const [key, now] of before) later.set(key, { until: from, now })
    end = begin
  }
  for (const key of later.keys()) put(key, '0')
  return held
}
