import { afterAll, describe, expect, it } from 'vitest'
import { fromCalendar, fullTime, shortTime, tellTimesIn, toCalendar } from './time.ts'
import { shownValue } from './words.ts'

describe('the zone that somebody chose', () => {
  afterAll(() => tellTimesIn(null))

  it.each([
    ['America/New_York', '2026-03-08T06:59:59Z', /^Sun 8 Mar 2026 01:59:59 (EST|GMT-5)$/],
    ['America/New_York', '2026-03-08T07:00:00Z', /^Sun 8 Mar 2026 03:00:00 (EDT|GMT-4)$/],
    ['Asia/Kolkata', '2026-12-31T20:00:00Z', /^Fri 1 Jan 2027 01:30:00 GMT\+5:30$/],
    ['UTC', '2026-12-31T20:00:00Z', /^Thu 31 Dec 2026 20:00:00 UTC$/],
  ])('tells in %s the time of %s', (zone, instant, told) => {
    tellTimesIn(zone)
    expect(fullTime(instant)).toMatch(told)
  })

  it('is that of values that are instants, too, and never shifts a day of a record’s own', () => {
    tellTimesIn('Asia/Kolkata')
    expect(shownValue('2026-12-31 20:00:00+00', 'timestamptz').text).toContain('2027-01-01 01:30:00')
    expect(shownValue('2026-12-31', 'date').text).toBe('2026-12-31')
    expect(shortTime('2020-12-31T20:00:00Z')).toBe('1 Jan 2021 01:30')
  })

  it('is that of a calendar to pick from, there and back', () => {
    for (const zone of ['America/New_York', 'Asia/Kolkata', 'Pacific/Kiritimati', 'UTC'])
      for (let ms = Date.parse('2026-03-01T00:10:00Z'); ms < Date.parse('2026-04-20T00:00:00Z'); ms += 5_400_000) {
        tellTimesIn(zone)
        expect(fromCalendar(toCalendar(ms))).toBe(ms)
      }
  })
})
