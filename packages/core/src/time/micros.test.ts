import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { compareInstants } from '../state/trail.ts'
import { instantOfMicros, microsOf } from './micros.ts'

describe('microseconds of an instant', () => {
  it('are in the order of the instants, and give them back', () => {
    const micros = fc.integer({ min: Date.UTC(1000, 0, 1) * 1000, max: Date.UTC(2255, 0, 1) * 1000 })
    fc.assert(
      fc.property(micros, micros, (a, b) => {
        const [one, other] = [instantOfMicros(a), instantOfMicros(b)]
        expect([microsOf(one), microsOf(other)]).toEqual([a, b])
        if (a > 0 && b > 0) expect(Math.sign(compareInstants(one, other))).toBe(Math.sign(a - b))
      }),
    )
    expect(instantOfMicros(microsOf('2026-03-29T01:00:00Z'))).toBe('2026-03-29T01:00:00Z')
    expect(microsOf('2026-03-29T01:00:00.25Z') - microsOf('2026-03-29T01:00:00Z')).toBe(250_000)
    expect(microsOf('1969-12-31T23:59:59.999999Z')).toBe(-1)
  })
})
