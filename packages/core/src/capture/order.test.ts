import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { foldRows, type CapturedRow } from './fold.ts'
import { contested, inOrder, recordPlace } from './order.ts'

/**
 * A little database of its own: rows under keys, statements that happen at once, and the rows a trigger would capture
 * of them. What is captured is then disturbed as nesting disturbs it, and has to come out as it was.
 */
interface Held {
  key: string
  values: Record<string, string>
}

type Deed =
  | { do: 'create'; key: number; value: number }
  | { do: 'change'; at: number; value: number }
  | { do: 'delete'; at: number }
  | { do: 'shift'; by: number }
  | { do: 'exchange'; one: number; other: number }

const deed: fc.Arbitrary<Deed> = fc.oneof(
  fc.record({ do: fc.constant('create' as const), key: fc.nat(5), value: fc.nat(3) }),
  fc.record({ do: fc.constant('change' as const), at: fc.nat(5), value: fc.nat(3) }),
  fc.record({ do: fc.constant('delete' as const), at: fc.nat(5) }),
  fc.record({ do: fc.constant('shift' as const), by: fc.constantFrom(-1, 1) }),
  fc.record({ do: fc.constant('exchange' as const), one: fc.nat(5), other: fc.nat(5) }),
)

/** Does deeds to rows. @returns what would be captured, statement by statement. */
function captured(rows: Held[], deeds: readonly Deed[]): CapturedRow[] {
  let clock = 0
  const out: CapturedRow[] = []
  const tell = (row: Omit<CapturedRow, 'transaction' | 'typeId' | 'at'>) =>
    out.push({ transaction: '1', typeId: 1, at: String(clock), ...row })
  const move = (moves: readonly { row: Held; to: string }[]) => {
    for (const { row, to } of moves)
      tell({ action: 'change', key: to, keyBefore: row.key, delta: { k: [row.key, to] } })
    for (const { row, to } of moves) [row.key, row.values['k']] = [to, to]
  }
  for (const one of deeds) {
    clock++
    const at = (n: number) => rows.find((row) => row.key === String(n))
    if (one.do === 'create' && !at(one.key)) {
      const values = { k: String(one.key), v: String(one.value) }
      rows.push({ key: values.k, values })
      tell({ action: 'create', key: values.k, keyBefore: null, delta: { k: [null, values.k], v: [null, values.v] } })
    } else if (one.do === 'change') {
      const row = at(one.at)
      if (!row || row.values['v'] === String(one.value)) continue
      tell({ action: 'change', key: row.key, keyBefore: null, delta: { v: [row.values['v']!, String(one.value)] } })
      row.values['v'] = String(one.value)
    } else if (one.do === 'delete') {
      const row = at(one.at)
      if (!row) continue
      tell({
        action: 'delete',
        key: row.key,
        keyBefore: null,
        delta: { k: [row.key, null], v: [row.values['v']!, null] },
      })
      rows.splice(rows.indexOf(row), 1)
    } else if (one.do === 'shift') move(rows.map((row) => ({ row, to: String(Number(row.key) + one.by) })))
    else if (one.do === 'exchange') {
      const [a, b] = [at(one.one), at(one.other)]
      if (a && b && a !== b)
        move([
          { row: a, to: b.key },
          { row: b, to: a.key },
        ])
    }
  }
  return out
}

/** What becomes of rows when saves are done to them one after another; those of one moment that move keys, at once. */
function replayed(rows: readonly Held[], saves: readonly CapturedRow[]): Held[] {
  const state = new Map(rows.map((row) => [row.key, { ...row.values }]))
  for (let at = 0; at < saves.length;) {
    let end = at + 1
    while (
      end < saves.length &&
      saves[end]!.keyBefore !== null &&
      saves[at]!.keyBefore !== null &&
      saves[end]!.at === saves[at]!.at
    )
      end++
    const step = saves.slice(at, end)
    const held = step.map((save) => (save.action === 'create' ? {} : state.get(save.keyBefore ?? save.key)))
    for (const [n, save] of step.entries()) {
      if (save.action === 'create') expect(state.has(save.key)).toBe(false)
      else for (const [field, [before]] of Object.entries(save.delta)) expect(held[n]?.[field] ?? null).toBe(before)
      if (save.action !== 'create') state.delete(save.keyBefore ?? save.key)
    }
    for (const [n, save] of step.entries())
      if (save.action !== 'delete')
        state.set(save.key, {
          ...held[n],
          ...Object.fromEntries(Object.entries(save.delta).map(([f, [, now]]) => [f, now!])),
        })
    at = end
  }
  return [...state].map(([key, values]) => ({ key, values })).sort((a, b) => a.key.localeCompare(b.key))
}

const start: readonly Held[] = [1, 2, 3].map((n) => ({ key: String(n), values: { k: String(n), v: '0' } }))
const copy = () => start.map((row) => ({ key: row.key, values: { ...row.values } }))
const sorted = (rows: Held[]) => rows.sort((a, b) => a.key.localeCompare(b.key))

describe('rows of one transaction', () => {
  it('give what the records hold, whatever keys they pass through', () => {
    fc.assert(
      fc.property(fc.array(deed, { maxLength: 12 }), (deeds) => {
        const rows = copy()
        const saves = foldRows(captured(rows, deeds))
        expect(replayed(start, saves)).toEqual(sorted(rows))
      }),
      { numRuns: 500 },
    )
  })

  it('of one statement, leave a place before it is taken, so that they can be done one by one', () => {
    const rows = copy()
    const saves = foldRows(captured(rows, [{ do: 'shift', by: 1 }]))
    expect(saves.map(({ keyBefore, key }) => `${keyBefore} ${key}`)).toEqual(['3 4', '2 3', '1 2'])
  })

  it('follow a list that is put in another order by way of a place that is free', () => {
    const move = (from: string, to: string, at: string): CapturedRow => ({
      transaction: '1',
      typeId: 1,
      at,
      action: 'change',
      key: to,
      keyBefore: from,
      delta: {},
    })
    const change = (key: string, at: string): CapturedRow => ({
      transaction: '1',
      typeId: 1,
      at,
      action: 'change',
      key,
      keyBefore: null,
      delta: { v: [at, 'x'] },
    })
    const rows = [change('5', '1'), move('5', '-141', '2'), move('627', '5', '3'), change('5', '4')]
    // Two records stand under 5, one after the other: what was done to them is not one save.
    expect(foldRows(rows)).toEqual(rows)
  })

  it('that were captured before what caused them come after it, where only one order is possible', () => {
    const rows: CapturedRow[] = [
      { transaction: '1', typeId: 1, at: '2', action: 'change', key: 'a', keyBefore: null, delta: { v: ['2', '3'] } },
      { transaction: '1', typeId: 1, at: '3', action: 'create', key: 'a', keyBefore: null, delta: { v: [null, '2'] } },
    ]
    expect(inOrder(rows).map((row) => row.action)).toEqual(['create', 'change'])
  })

  it('that were removed to make room come before what took it, as their values show', () => {
    const rows: CapturedRow[] = [
      {
        transaction: '1',
        typeId: 1,
        at: '3',
        action: 'create',
        key: 'a',
        keyBefore: null,
        delta: { k: [null, 'a'], v: [null, '2'] },
      },
      { transaction: '1', typeId: 1, at: '2', action: 'delete', key: 'a', keyBefore: null, delta: { k: ['a', null] } },
    ]
    expect(inOrder(rows).map((row) => row.action)).toEqual(['delete', 'create'])
  })

  it('are never moved before what another transaction did', () => {
    const rows: CapturedRow[] = [
      { transaction: '2', typeId: 1, at: '2', action: 'change', key: 'b', keyBefore: null, delta: { v: ['2', '3'] } },
      { transaction: '1', typeId: 1, at: '3', action: 'change', key: 'b', keyBefore: null, delta: { v: ['0', '1'] } },
      { transaction: '2', typeId: 1, at: '4', action: 'change', key: 'b', keyBefore: null, delta: { v: ['1', '2'] } },
    ]
    expect(inOrder(rows).map((row) => row.delta['v']![1])).toEqual(['1', '2', '3'])
  })

  it('stay quick by the thousand', () => {
    const deeds = Array.from({ length: 20_000 }, (_, n): CapturedRow => ({
      transaction: '1',
      typeId: 1,
      at: String(n),
      action: 'change',
      key: String(n % 7000),
      keyBefore: null,
      delta: { v: [String(Math.floor(n / 7000)), String(Math.floor(n / 7000) + 1)] },
    }))
    expect(foldRows(deeds)).toHaveLength(20_000)
  })
})

describe('keys that are checked only when a transaction ends', () => {
  const row = (transaction: string, action: CapturedRow['action'], v: string): CapturedRow => ({
    transaction,
    typeId: 1,
    at: v,
    action,
    key: 'k',
    keyBefore: null,
    delta: action === 'delete' ? { v: [v, null] } : { v: [null, v] },
  })

  it('let a record come before another has left, which is put right where one stood there', () => {
    const rows = [row('2', 'create', 'new'), row('1', 'delete', 'old')]
    expect(contested(rows)).toEqual([{ typeId: 1, key: 'k', arriving: rows[0]!.transaction }])
    expect(inOrder(rows, new Set([recordPlace(1, 'k')])).map((one) => one.action)).toEqual(['delete', 'create'])
    expect(inOrder(rows).map((one) => one.action)).toEqual(['create', 'delete'])
  })

  it('move nothing of a record that came and went', () => {
    const rows = [row('1', 'create', 'a'), row('2', 'delete', 'a'), row('3', 'create', 'b')]
    expect(inOrder(rows, new Set([recordPlace(2, 'k')]))).toEqual(rows)
  })
})
