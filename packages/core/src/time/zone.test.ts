import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { addDays, isDate, isZone, startOfDay, wallClock, wallClockText } from './zone.ts'

describe('start of a day in a zone', () => {
  it.each([
    ['2026-01-15', 'Europe/London', '2026-01-15T00:00:00.000Z'],
    ['2026-07-15', 'Europe/London', '2026-07-14T23:00:00.000Z'],
    ['2026-03-29', 'Europe/London', '2026-03-29T00:00:00.000Z'],
    ['2026-03-30', 'Europe/London', '2026-03-29T23:00:00.000Z'],
    ['2026-10-25', 'Europe/London', '2026-10-24T23:00:00.000Z'],
    ['2026-06-01', 'America/New_York', '2026-06-01T04:00:00.000Z'],
    ['2018-11-04', 'America/Sao_Paulo', '2018-11-04T03:00:00.000Z'],
    ['2026-06-01', 'Asia/Kolkata', '2026-05-31T18:30:00.000Z'],
  ])('%s in %s', (date, zone, expected) => {
    expect(new Date(startOfDay(date, zone)).toISOString()).toBe(expected)
  })

  it('is the first instant that carries the date, in any zone', () => {
    const zones = ['Europe/London', 'America/New_York', 'America/Sao_Paulo', 'Pacific/Apia', 'Asia/Beirut', 'UTC']
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 20_000 }), fc.constantFrom(...zones), (day, zone) => {
        const date = addDays('1995-01-01', day)
        if (zone === 'Pacific/Apia' && date === '2011-12-30') return // the day Samoa left out
        const start = startOfDay(date, zone)
        expect(wallClock(start, zone).date).toBe(date)
        expect(wallClock(start - 1000, zone).date < date).toBe(true)
      }),
    )
  })
})

describe('dates and zones from outside', () => {
  it.each(['2026-02-29', '2026-13-01', '26-01-01', '2026-1-1', '', '2026-01-01x'])('%j is not a date', (text) => {
    expect(isDate(text)).toBe(false)
  })
  it('knows a leap day', () => expect(isDate('2028-02-29')).toBe(true))
  it('knows zones', () => {
    expect(isZone('Europe/London')).toBe(true)
    expect(isZone('Larkmere/Nowhere')).toBe(false)
  })
})

describe('an instant as a zone’s wall clock shows it', () => {
  it.each([
    ['2026-07-20T16:52:07.123456Z', 'Europe/London', '2026-07-20T17:52:07.123456+01:00'],
    ['2026-01-20T16:52:07Z', 'America/St_Johns', '2026-01-20T13:22:07-03:30'],
    ['2026-01-20T20:00:00.5Z', 'Asia/Kolkata', '2026-01-21T01:30:00.5+05:30'],
  ])('%s in %s', (instant, zone, text) => expect(wallClockText(instant, zone)).toBe(text))
})

it('every zone’s clock is told with the offset that leads back to the instant, on either side of its changes too', () => {
  const zones = Intl.supportedValuesOf('timeZone')
  const quarterMs = 900_000
  const near = fc.oneof(
    fc.date({ min: new Date('1900-01-01'), max: new Date('2090-01-01'), noInvalidDate: true }).map(Number),
    // Where clocks are set: around full quarters of an hour of March, April, October and November.
    fc
      .tuple(
        fc.integer({ min: 1973, max: 2060 }),
        fc.constantFrom(2, 3, 9, 10),
        fc.integer({ min: 0, max: 2900 }),
        fc.integer({ min: -2, max: 2 }),
      )
      .map(([year, month, quarter, off]) => Date.UTC(year, month, 1) + quarter * quarterMs + off),
  )
  fc.assert(
    fc.property(fc.constantFrom(...zones), near, (zone, epochMs) => {
      const instant = new Date(epochMs).toISOString()
      const text = wallClockText(instant, zone)
      const { date, time } = wallClock(epochMs, zone)
      expect(text.slice(0, 19)).toBe(`${date}T${time}`)
      // Offsets of a hundred years ago had seconds, which ISO 8601 has no room for.
      if (epochMs >= Date.UTC(1973, 0, 1)) expect(Date.parse(text)).toBe(epochMs)
    }),
    { numRuns: 2000 },
  )
})
