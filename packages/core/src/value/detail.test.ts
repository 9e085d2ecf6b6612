import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { jsonDifferences, textParts } from './detail.ts'

describe('long texts', () => {
  it('the parts of each side put together are that side', () => {
    const text = fc
      .array(fc.constantFrom('boiler', 'tested', 'on', 'Monday', '.', '\n', 'עברית', '💧', '  '), { maxLength: 40 })
      .map((words) => words.join(' '))
    fc.assert(
      fc.property(text, text, (before, after) => {
        const parts = textParts(before, after)!
        expect(
          parts
            .filter((part) => part.side !== 'after')
            .map((part) => part.text)
            .join(''),
        ).toBe(before)
        expect(
          parts
            .filter((part) => part.side !== 'before')
            .map((part) => part.text)
            .join(''),
        ).toBe(after)
      }),
    )
  })

  it('gives up on what is too long to tell apart, and says so', () => {
    expect(textParts('x'.repeat(200_001), 'y')).toBeNull()
  })
})

describe('json', () => {
  it.each([
    [
      '{"a": 1, "b": [1, {"c": "x"}]}',
      '{"b": [1, {"c": "y"}], "a": 1.0}',
      [
        { path: 'a', before: '1', after: '1.0' },
        { path: 'b[1].c', before: 'x', after: 'y' },
      ],
    ],
    ['{"a": null}', '{}', [{ path: 'a', before: 'null', after: undefined }]],
    [
      '{"n": 9007199254740993}',
      '{"n": 9007199254740992}',
      [{ path: 'n', before: '9007199254740993', after: '9007199254740992' }],
    ],
    ['"12"', '12', [{ path: '', before: '12', after: '12' }]],
    ['[1,2]', '[1]', [{ path: '[1]', before: '2', after: undefined }]],
    ['{"a": 1}', '{"a":1}', []],
    ['not json', '{}', null],
  ])('%s and %s', (before, after, expected) => expect(jsonDifferences(before, after)).toEqual(expected))

  it('gives up on what differs in too many places or lies too deep', () => {
    const many = (n: number) => JSON.stringify(Array.from({ length: 1000 }, (_, at) => at * n))
    expect(jsonDifferences(many(1), many(2))).toBeNull()
    const deep = (inner: string) => `${'['.repeat(100)}${inner}${']'.repeat(100)}`
    expect(jsonDifferences(deep('1'), deep('2'))).toBeNull()
  })
})
