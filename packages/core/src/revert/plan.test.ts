import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import {
  invertWrites,
  itemPlace,
  itemsOfChanges,
  rehearse,
  writesOf,
  type Chosen,
  type CurrentValue,
  type GuardedWrite,
  type RevertedChange,
  type RevertItem,
} from './plan.ts'

const item: RevertItem = { typeId: 1, key: '["7"]', fieldId: 2, found: '150.00', target: '110.00', act: 'set' }
const { act: _act, ...values } = item
const change: RevertedChange = { ...values, action: 'change' }
const now = (value: string | null) => (): CurrentValue => ({ state: 'value', value })
const none = new Map<string, Chosen>()

describe('rehearsing a revert', () => {
  it.each([
    ['the value found is still there', '150.00', 'clear'],
    ['somebody put it back already', '110.00', 'already-so'],
    ['somebody changed it since', '133.00', 'changed-since'],
    ['somebody emptied it since', null, 'changed-since'],
  ])('%s', (_, value, state) => {
    expect(rehearse([item], now(value), none)[0]!.state).toBe(state)
  })

  it('does not overwrite a later change unless chosen', () => {
    expect(writesOf(rehearse([item], now('133.00'), none))).toEqual([])
    const chosen = new Map([[itemPlace(item), { choice: 'overwrite' as const, seen: '133.00' }]])
    expect(writesOf(rehearse([item], now('133.00'), chosen))).toEqual([
      { act: 'set', typeId: 1, key: '["7"]', fieldId: 2, expected: '133.00', value: '110.00' },
    ])
    const another = rehearse([item], now('134.00'), chosen)
    expect(another).toMatchObject([{ state: 'changed-since', choice: 'keep' }])
    expect(writesOf(another)).toEqual([])
  })

  it('leaves a value alone where somebody says so', () => {
    const left = new Map([[itemPlace(item), { choice: 'leave' as const, seen: '150.00' }]])
    expect(writesOf(rehearse([item], now('150.00'), left))).toEqual([])
    expect(writesOf(rehearse([item], now('133.00'), left))).toEqual([])
  })

  it('tells NULL from empty text', () => {
    const emptied: RevertItem = { ...item, found: '', target: null }
    expect(rehearse([emptied], now(''), none)[0]!.state).toBe('clear')
    expect(rehearse([emptied], now(null), none)[0]!.state).toBe('already-so')
  })

  it('writes nothing where the record is gone', () => {
    const rehearsed = rehearse([item], () => ({ state: 'blocked', why: 'record-gone' }), none)
    expect(rehearsed[0]).toMatchObject({ state: 'blocked', why: 'record-gone' })
    expect(writesOf(rehearsed)).toEqual([])
  })

  it('several changes of one value go back to before the first', () => {
    const first = { ...change, found: '130.00', target: '110.00' }
    const second = { ...change, found: '150.00', target: '130.00' }
    expect(itemsOfChanges([first, second])).toEqual([{ ...item, found: '150.00', target: '110.00' }])
  })

  it('what came between two of them stays', () => {
    const first = { ...change, found: '130.00', target: '110.00' }
    const second = { ...change, found: '150.00', target: '140.00' }
    expect(itemsOfChanges([first, second])).toEqual([{ ...item, found: '150.00', target: '140.00' }])
  })
})

describe('apply and invert', () => {
  const apply = (state: Map<string, string | null>, writes: readonly GuardedWrite[]) => {
    const next = new Map(state)
    for (const write of writes) {
      expect(next.get(itemPlace(write))).toBe(write.expected)
      next.set(itemPlace(write), write.value)
    }
    return next
  }

  it('is identity', () => {
    const value = fc.option(fc.constantFrom('', 'a', 'b'), { nil: null })
    const change = fc.record({
      typeId: fc.constant(1),
      key: fc.constantFrom('x', 'y'),
      fieldId: fc.constantFrom(1, 2),
      found: value,
      target: value,
      action: fc.constant('change' as const),
    })
    fc.assert(
      fc.property(
        fc.array(change),
        fc.array(value, { minLength: 4, maxLength: 4 }),
        fc.boolean(),
        (changes, start, overwrite) => {
          const items = itemsOfChanges(changes)
          const state = new Map(
            [1, 2].flatMap((f, i) =>
              ['x', 'y'].map((k, j) => [itemPlace({ typeId: 1, key: k, fieldId: f }), start[i * 2 + j]!] as const),
            ),
          )
          const choices = new Map(
            items.map((i): [string, Chosen] => [
              itemPlace(i),
              { choice: overwrite ? 'overwrite' : 'keep', seen: state.get(itemPlace(i))! },
            ]),
          )
          const writes = writesOf(
            rehearse(items, (i) => ({ state: 'value', value: state.get(itemPlace(i))! }), choices),
          )
          const after = apply(state, writes)
          expect(apply(after, invertWrites(writes))).toEqual(state)
        },
      ),
    )
  })
})
