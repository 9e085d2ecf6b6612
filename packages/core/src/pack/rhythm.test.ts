import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { addDays, wallClock } from '../time/zone.ts'
import { makingsDue, nextMaking, rhythmWords, type Rhythm } from './rhythm.ts'

const zones = ['UTC', 'Europe/London', 'America/St_Johns', 'Asia/Kolkata', 'Pacific/Apia']
const moment = fc.integer({ min: Date.parse('2024-01-01T00:00:00Z'), max: Date.parse('2030-12-31T00:00:00Z') })
const rhythm: fc.Arbitrary<Rhythm> = fc.record({
  each: fc.constantFrom('week', 'month', 'quarter'),
  on: fc.integer({ min: 1, max: 7 }),
  at: fc.constantFrom('00:00', '06:30', '23:59'),
  workingDay: fc.boolean(),
})
const dayMs = 86_400_000

describe('when a regular pack is made', () => {
  it('leaves no day out and takes none twice, and is over before it is made', () => {
    fc.assert(
      fc.property(rhythm, moment, fc.constantFrom(...zones), fc.integer({ min: 0, max: 25 }), (one, ms, zone, off) => {
        // So many holidays in a row, from some day on.
        const begin = wallClock(ms, zone).date
        const holidays = new Set(Array.from({ length: off }, (_, at) => addDays(begin, at)))
        const request = { nowMs: ms, zone, holidays }
        const next = nextMaking(one, request)
        // Looked at now and then, by whoever was away for some weeks.
        const before = ms - 40 * dayMs
        const seen = makingsDue(one, { ...request, nowMs: before, afterMs: before - 200 * dayMs })
        const since = makingsDue(one, { ...request, afterMs: before })
        expect(next.atMs).toBeGreaterThan(ms)
        const turns = [...seen.slice(-1), ...since, next]
        for (const [at, turn] of turns.slice(1).entries()) expect(turn.from).toBe(addDays(turns[at]!.to, 1))
        for (const turn of turns) {
          const made = wallClock(turn.atMs, zone).date
          expect(made > turn.to).toBe(true)
          if (one.workingDay) {
            expect([0, 6]).not.toContain(new Date(`${made}T00:00:00Z`).getUTCDay())
            expect(holidays.has(made)).toBe(false)
          }
          // By the calendar of the language, not by this arithmetic.
          const days = (Date.parse(`${turn.to}T00:00:00Z`) - Date.parse(`${turn.from}T00:00:00Z`)) / dayMs + 1
          const [from, after] = [turn.from, addDays(turn.to, 1)].map((day) => new Date(`${day}T00:00:00Z`))
          if (one.each === 'week') expect([days, from!.getUTCDay()]).toEqual([7, 1])
          else {
            expect([from!.getUTCDate(), after!.getUTCDate()]).toEqual([1, 1])
            const months =
              (after!.getUTCFullYear() - from!.getUTCFullYear()) * 12 + after!.getUTCMonth() - from!.getUTCMonth()
            expect(months).toBe(one.each === 'month' ? 1 : 3)
            if (one.each === 'quarter') expect(from!.getUTCMonth() % 3).toBe(0)
          }
        }
      }),
    )
  })

  it('is said in words', () => {
    const words = (each: Rhythm['each'], on: number, workingDay = false) =>
      rhythmWords({ each, on, at: '06:00', workingDay })
    expect(words('month', 2, true)).toBe('each month on the 2nd at 06:00, or the next working day, of the month before')
    expect(words('quarter', 11)).toBe('each quarter on the 11th of its first month at 06:00, of the quarter before')
    expect(words('week', 1)).toBe('Mondays at 06:00, of the week before')
    expect(words('month', 23)).toContain('the 23rd')
  })
})
