import { describe, expect, it } from 'vitest'
import { lengthWords, placeOf, ticks, zoomed } from './scale.ts'

const at = (text: string) => Date.parse(text)

describe('the time axis', () => {
  it.each([
    ['2026-03-01T00:00:00Z', '2026-03-01T00:01:00Z'],
    ['2026-03-01T00:00:00Z', '2026-03-01T05:00:00Z'],
    ['2026-03-28T00:00:00Z', '2026-03-31T00:00:00Z'],
    ['2024-05-03T00:00:00Z', '2026-11-26T00:00:00Z'],
    ['2004-05-03T00:00:00Z', '2026-11-26T00:00:00Z'],
  ])('from %s to %s names a few places, in order and within', (from, to) => {
    const range = { fromMs: at(from), toMs: at(to) }
    const marks = ticks(range)
    expect(marks.length).toBeGreaterThan(1)
    expect(marks.length).toBeLessThanOrEqual(8)
    expect(marks.map((mark) => mark.ms)).toEqual([...marks.map((mark) => mark.ms)].sort((x, y) => x - y))
    for (const { ms } of marks) expect(ms >= range.fromMs && ms <= range.toMs).toBe(true)
    expect(new Set(marks.map((mark) => mark.label)).size).toBe(marks.length)
  })

  it('zooms around a place, never beyond the whole nor below a second', () => {
    const whole = { fromMs: 0, toMs: 100_000 }
    const closer = zoomed(whole, 0.5, 0.25, whole)
    expect(closer).toEqual({ fromMs: 12_500, toMs: 62_500 })
    expect(placeOf(25_000, closer)).toBe(0.25)
    expect(zoomed(closer, 100, 0.5, whole)).toEqual(whole)
    expect(zoomed(whole, 0, 1, whole)).toEqual({ fromMs: 99_000, toMs: 100_000 })
  })

  it('says how long in one unit', () => {
    expect([500, 60_000, 86_400_000, 400 * 86_400_000, 800 * 86_400_000].map(lengthWords)).toEqual([
      '0 seconds',
      '1 minute',
      '1 day',
      '400 days',
      '2 years',
    ])
  })
})
