import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { arrayLiteral, arrayMembers } from './array.ts'
import { difference } from './difference.ts'

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
