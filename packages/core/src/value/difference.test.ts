import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { arrayLiteral, arrayMembers } from './array.ts'
import Big from 'big.js'
import { difference, rise } from './difference.ts'

describe('difference', () => {
  it.each([
    ['numeric', '118.20', '126.90', { kind: 'number', by: '8.7', percent: 7.4 }],
    ['numeric', '-4', '-5', { kind: 'number', by: '-1', percent: -25 }],
    ['numeric', '0', '5', { kind: 'number', by: '5', percent: null }],
    ['int8', '9007199254740993', '9007199254740992', { kind: 'number', by: '-1', percent: 0 }],
    ['numeric', 'NaN', '1', { kind: 'other' }],
    ['date', '2026-03-20', '2025-04-22', { kind: 'days', by: -332 }],
    ['date', '2026-03-20', 'infinity', { kind: 'other' }],
    ['_text', '{alarm,"visits, daily"}', '{alarm}', { kind: 'members', added: [], removed: ['visits, daily'] }],
    ['_text', '{a}', '{}', { kind: 'members', added: [], removed: ['a'] }],
    ['text', 'a', 'b', { kind: 'other' }],
    ['text', 'a', 'a', { kind: 'none' }],
    ['text', null, '', { kind: 'appeared' }],
    ['text', '', null, { kind: 'vanished' }],
  ])('%s from %s to %s', (type, before, after, expected) => {
    expect(difference(before, after, type)).toEqual(expected)
  })
})

describe('rise', () => {
  const amount = fc
    .tuple(fc.boolean(), fc.bigInt({ min: 0n, max: 10n ** 14n }), fc.integer({ min: 0, max: 6 }))
    .map(([minus, n, places]) => {
      const digits = n.toString().padStart(places + 1, '0')
      const text = places === 0 ? digits : `${digits.slice(0, -places)}.${digits.slice(-places)}`
      return minus && n > 0n ? `-${text}` : text
    })
  it('is exact, whichever way it is reckoned', () => {
    fc.assert(
      fc.property(amount, amount, (before, after) => {
        const moved = rise(before, after)!
        const exact = new Big(after).minus(before)
        expect(new Big(moved.by).eq(exact)).toBe(true)
        if (new Big(before).eq(0)) expect(moved.share).toBeNull()
        else expect(moved.share).toBeCloseTo(Number(exact.div(new Big(before).abs())), 6)
      }),
    )
  })
  it.each([
    [null, '1'],
    ['1', null],
    ['NaN', '1'],
    ['x', 'y'],
    ['1e9999999', '2'],
  ])('%s to %s is no rise', (before, after) => {
    expect(rise(before, after)).toBeNull()
  })
})

describe('array literals', () => {
  it('round-trip any members', () => {
    fc.assert(
      fc.property(fc.array(fc.option(fc.string({ unit: 'binary' }), { nil: null })), (members) => {
        expect(arrayMembers(arrayLiteral(members))).toEqual(members)
      }),
    )
  })
  it.each(['', 'x', '{', '{{1,2},{3,4}}', '[0:1]={a,b}'])('%j is not a plain list of members', (text) => {
    expect(arrayMembers(text)).toBeNull()
  })
})
