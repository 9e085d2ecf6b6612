const perSecond = 1_000_000
const digitsOfFraction = 6

/** Microseconds since 1970 of an instant (ISO 8601 in UTC, up to six digits after the second), exact until the year 2255. */
export function microsOf(instant: string): number {
  const point = instant.indexOf('.')
  if (point < 0) return Date.parse(instant) * 1000
  const fraction = instant
    .slice(point + 1, -1)
    .padEnd(digitsOfFraction, '0')
    .slice(0, digitsOfFraction)
  return Date.parse(`${instant.slice(0, point)}Z`) * 1000 + Number(fraction)
}

/** The instant, without zeros at the end of its fraction. */
export function instantOfMicros(micros: number): string {
  const second = Math.floor(micros / perSecond)
  const fraction = String(micros - second * perSecond)
    .padStart(digitsOfFraction, '0')
    .replace(/0+$/, '')
  return `${new Date(second * 1000).toISOString().slice(0, -5)}${fraction && `.${fraction}`}Z`
}
