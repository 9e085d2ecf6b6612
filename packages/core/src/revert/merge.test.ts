import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { arrayLiteral, arrayMembers } from '../value/array.ts'
import { mergedValue } from './merge.ts'

const merged = (baseType: string, found: string | null, now: string | null, target: string | null) =>
  mergedValue(baseType, { found, now, target })

describe('a set', () => {
  it.each([
    ['what was taken away comes back, what was added since stays', '{}', '{gas}', '{gas,lift}', '{gas,lift}'],
    ['nothing at all has no members', null, '{lift}', '{gas}', '{lift,gas}'],
    ['what the change added goes', '{a,b}', '{a,b,c}', '{a}', '{a,c}'],
    ['what somebody took away since stays away', '{a,b}', '{b}', '{a,b,c}', '{b,c}'],
    ['hostile members', '{}', '{"a,b"}', '{NULL,"NULL","{}"}', '{"a,b",NULL,"NULL","{}"}'],
  ])('%s', (_, found, now, target, is) => {
    expect(merged('_text', found, now, target)).toBe(is)
  })

  it('is none where a member stands twice, or members have members', () => {
    expect(merged('_text', '{a}', '{a,a}', '{}')).toBeNull()
    expect(merged('_int4', '{{1}}', '{{1},{2}}', '{}')).toBeNull()
  })

  it('has each member that a look at it alone would give it', () => {
    const members = fc.uniqueArray(fc.constantFrom<string | null>('a', 'b', 'c', '', 'NULL', '"', null), {
      maxLength: 6,
    })
    fc.assert(
      fc.property(members, members, members, (found, now, target) => {
        const result = arrayMembers(
          merged('_text', ...([found, now, target].map(arrayLiteral) as [string, string, string]))!,
        )!
        for (const member of ['a', 'b', 'c', '', 'NULL', '"', null] as const) {
          const [had, has, gets] = [found, now, target].map((of) => of.includes(member))
          // Where the change did nothing about a member, it is as it is now; else as before the change.
          expect(result.includes(member)).toBe(had === gets ? has : gets)
        }
        expect(new Set(result).size).toBe(result.length)
      }),
    )
  })
})

describe('a text', () => {
  it('keeps what was written elsewhere, by words or by lines', () => {
    expect(merged('text', 'Call before noon please', 'Call Amrit before noon please', 'Call before nine please')).toBe(
      'Call Amrit before nine please',
    )
    expect(merged('varchar', 'a\nb\nc\n', 'a\nb\nc\nd\n', 'x\nb\nc\n')).toBe('x\nb\nc\nd\n')
  })

  it('is none where both made something of the same part, and for other types', () => {
    expect(merged('text', 'open', 'closed', 'new')).toBeNull()
    expect(merged('text', null, 'a', 'b')).toBeNull()
    expect(merged('int4', '1', '2', '3')).toBeNull()
  })

  it('is what either side is where the other did nothing', () => {
    const text = fc.string({ unit: fc.constantFrom('a', 'b', ' ', '\n'), maxLength: 30 })
    fc.assert(
      fc.property(text, text, (found, other) => {
        expect(merged('text', found, other, found)).toBe(other)
        expect(merged('text', found, found, other)).toBe(other)
      }),
    )
  })
})

describe('json', () => {
  it('is merged by path', () => {
    expect(merged('jsonb', '{"a":1,"b":{"c":1}}', '{"a":1,"b":{"c":1,"d":2}}', '{"a":5,"b":{"c":1}}')).toBe(
      '{"a":5,"b":{"c":1,"d":2}}',
    )
    expect(merged('jsonb', '{"a":1}', '{"a":1,"b":2}', '{}')).toBe('{"b":2}')
    expect(merged('jsonb', '{"a":1}', '{"a":2}', '{"a":3}')).toBeNull()
  })

  it('loses no digit and no name: then it is left alone', () => {
    expect(merged('json', '{"a":1}', '{"a":1,"n":12345678901234567890}', '{"a":2}')).toBeNull()
    expect(merged('json', '{"a":1}', '{"a":1,"n":1.10}', '{"a":2}')).toBeNull()
    expect(merged('json', '{"a":1}', '{"a":1,"n":1,"n":2}', '{"a":2}')).toBeNull()
    expect(merged('json', '{"a":1}', '{"a":1,"12345678901234567890: 1.10":"\\"x\\": 1.10"}', '{"a":2}')).not.toBeNull()
  })

  it('names of every kind are only names', () => {
    expect(merged('jsonb', '{}', '{"__proto__":1}', '{"constructor":2}')).toBe('{"__proto__":1,"constructor":2}')
  })
})
