import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { atWallClock, wallClock } from '../time/zone.ts'
import { daysWords, weekday } from '../time/weekday.ts'
import { isQuiet, nextSpeaking, watchBucket, type WatchTimes } from './rule.ts'

const zones = ['UTC', 'Europe/London', 'America/St_Johns', 'Asia/Kolkata', 'Australia/Lord_Howe', 'Pacific/Apia']
const time = fc
  .tuple(fc.integer({ min: 0, max: 23 }), fc.integer({ min: 0, max: 59 }))
  .map(([h, m]) => `${String(h).padStart(2, '0')}:${String(m).padStart(2, '0')}`)
const moment = fc.integer({ min: Date.parse('2024-01-01T00:00:00Z'), max: Date.parse('2027-12-31T00:00:00Z') })
const minute = 60_000

describe('the instant at which a clock shows a time', () => {
  it('is where the clock jumps when it jumps over it, and the first when it is shown twice', () => {
    expect(new Date(atWallClock('2026-03-29', '01:30', 'Europe/London')).toISOString()).toBe('2026-03-29T01:00:00.000Z')
    expect(new Date(atWallClock('2026-10-25', '01:30', 'Europe/London')).toISOString()).toBe('2026-10-25T00:30:00.000Z')
    expect(new Date(atWallClock('2026-07-01', '09:00', 'Asia/Kolkata')).toISOString()).toBe('2026-07-01T03:30:00.000Z')
  })

  it('shows it wherever the day has it', () => {
    fc.assert(
      fc.property(moment, fc.constantFrom(...zones), (ms, zone) => {
        // What a clock shows at some minute leads back to it, or to the earlier one that shows the same.
        const at = Math.floor(ms / minute) * minute
        const shown = wallClock(at, zone)
        const found = atWallClock(shown.date, shown.time.slice(0, 5), zone)
        expect(found).toBeLessThanOrEqual(at)
        expect(wallClock(found, zone)).toEqual(shown)
      }),
    )
  })
})

describe('when a watch speaks', () => {
  it('is never before it fired, never in quiet hours, at its time and within its spell', () => {
    const speaks = fc.oneof(
      fc.constant({ speaks: 'once' as const }),
      fc.constant({ speaks: 'hourly' as const }),
      fc.record({ speaks: fc.constant('daily' as const), at: time }),
      fc.record({ speaks: fc.constant('weekly' as const), at: time, on: fc.integer({ min: 1, max: 7 }) }),
    )
    const quiet = fc.option(fc.record({ from: time, to: time }))
    fc.assert(
      fc.property(moment, speaks, quiet, fc.constantFrom(...zones), (firedMs, one, hours, zone) => {
        const times: WatchTimes = { speaks: one, quiet: hours, zone }
        const at = nextSpeaking(times, firedMs)
        expect(at).toBeGreaterThanOrEqual(firedMs)
        const clock = wallClock(at, zone)
        // Whoever sleeps all round the clock but a minute is told in that minute.
        const jumps = wallClock(at - minute, zone).time.slice(0, 2) !== clock.time.slice(0, 2)
        if (hours && hours.from !== hours.to && !jumps) expect(isQuiet(hours, clock.time)).toBe(false)
        if (hours === null && 'at' in one && !jumps) expect(clock.time.slice(0, 5)).toBe(one.at)
        if (hours === null && one.speaks === 'weekly') expect(weekday(clock.date)).toBe(one.on)
        const spellMs = { once: 0, hourly: 1, daily: 25, weekly: 8 * 24 }[one.speaks] * 60 * minute
        expect(at - firedMs).toBeLessThanOrEqual(spellMs + (hours ? 25 * 60 * minute : 0))
      }),
    )
  })
})

it('counts by the run, the hour of UTC, or the day where its reader is', () => {
  const atMs = Date.parse('2026-03-31T23:30:00Z')
  const save = { id: '7', runId: 4, atMs }
  expect(watchBucket('run', save, 'UTC')).toBe('run:4')
  expect(watchBucket('run', { ...save, runId: null }, 'UTC')).toBe('save:7')
  expect(watchBucket('hour', save, 'Europe/London')).toBe('hour:2026-03-31T23')
  expect(watchBucket('day', save, 'Europe/London')).toBe('day:2026-04-01')
  expect(daysWords([5, 1, 2, 3, 4])).toBe('Mondays to Fridays')
  expect(daysWords([4, 1])).toBe('Mondays and Thursdays')
})
