import { describe, expect, it } from 'vitest'
import { fingerprintOf, shownValue, visible } from './words.ts'

describe('a value for the eye', () => {
  it('calls a fingerprint one instead of 64 digits, and nothing else', () => {
    const digits = '3fa29c41'.repeat(8)
    expect(shownValue(digits, fingerprintOf)).toEqual({ text: 'fingerprint 3fa29c41…', isWords: true })
    expect(shownValue(digits, 'text').text).toBe(digits)
    expect(shownValue('kept before as it was', fingerprintOf).text).toBe('kept before as it was')
  })

  it('names what turns the reading direction or hides', () => {
    expect(visible('invoice\u202Egnp.exe')).toBe('invoice‹U+202E›gnp.exe')
    expect(visible('a\u200bb\ufeff')).toBe('a‹U+200B›b‹U+FEFF›')
    expect(shownValue('{x\u2066y}', '_text').text).toBe('x‹U+2066›y')
    for (const plain of ['Ünïcode 水 עברית', '\u{1f469}\u200d\u{1f692}', 'می\u200cخواهم'])
      expect(visible(plain)).toBe(plain)
    expect(visible('pay\u200dpal')).toBe('pay‹U+200D›pal')
  })

  it('tells nothing, empty text and an empty list apart', () => {
    expect(
      [shownValue(null, 'text'), shownValue('', 'text'), shownValue('{}', '_text')].map((one) => one.text),
    ).toEqual(['nothing', 'empty text', 'empty list'])
    expect(shownValue('t', 'bool').text).toBe('yes')
  })
})
