import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { bucketAfter, bucketFor, bucketStart, type BucketSize } from './bucket.ts'

const sizes: BucketSize[] = ['year', 'month', 'week', 'day', 'hour', 'minute']
const zone = fc.constantFrom('Europe/London', 'UTC', 'America/New_York', 'Asia/Kolkata', 'America/Sao_Paulo')

describe('spells of time', () => {
  it('every instant lies in its spell, and spells follow one another without a gap', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 946_684_800_000, max: 1_900_000_000_000 }),
        fc.constantFrom(...sizes),
        zone,
        (at, size, z) => {
          const start = bucketStart(at, size, z)
          const next = bucketAfter(start, size, z)
          expect(start).toBeLessThanOrEqual(at)
          expect(next).toBeGreaterThan(at)
          expect(bucketStart(start, size, z)).toBe(start)
          expect(bucketStart(next, size, z)).toBe(next)
          expect(bucketStart(next - 1, size, z)).toBe(start)
        },
      ),
    )
  })

  it.each([
    [3_600_000, 'minute'],
    [86_400_000 * 3, 'hour'],
    [86_400_000 * 90, 'day'],
    [86_400_000 * 900, 'week'],
    [86_400_000 * 3000, 'month'],
    [86_400_000 * 36_500, 'year'],
  ] as const)('%i ms are shown by the %s', (length, size) => expect(bucketFor(0, length)).toBe(size))
})
