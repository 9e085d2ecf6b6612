import fc from 'fast-check'
import { expect, it } from 'vitest'
import { wallClock } from '../time/zone.ts'
import { comparedDays } from './compared.ts'

const hour = 3_600_000
const begin = Date.parse('2026-03-20T00:00:00Z')
const instants = fc
  .array(fc.integer({ min: 0, max: 24 * 14 }), { maxLength: 12 })
  .map((hours) => hours.map((one) => new Date(begin + one * hour).toISOString()))

it('a day is gone, new or neither, as the clock of the zone has it', () => {
  fc.assert(
    fc.property(instants, instants, fc.constantFrom('UTC', 'Europe/London', 'Asia/Kolkata'), (before, after, zone) => {
      const { gone, new: added } = comparedDays(before, after, zone)
      // Asked day by day, with no set of them.
      const has = (list: readonly string[], day: string) =>
        list.some((at) => new Intl.DateTimeFormat('en-CA', { timeZone: zone }).format(Date.parse(at)) === day)
      for (let at = begin - 24 * hour; at < begin + 16 * 24 * hour; at += 24 * hour) {
        const day = wallClock(at, 'UTC').date
        expect([gone.includes(day), added.includes(day)]).toEqual([
          has(before, day) && !has(after, day),
          !has(before, day) && has(after, day),
        ])
      }
      for (const days of [gone, added]) expect(days).toEqual([...days].sort())
    }),
    { numRuns: 60 },
  )
})
