import { addDays } from '../time/zone.ts'
import { type Span } from './model.ts'

/** Spells that have a name of their own, by the day it is. */
export function namedSpans(today: string, zone: string): { name: string; span: Span }[] {
  const weekday = (new Date(Date.parse(`${today}T00:00:00Z`)).getUTCDay() + 6) % 7
  const monday = addDays(today, -weekday)
  const first = `${today.slice(0, 7)}-01`
  const lastOfBefore = addDays(first, -1)
  const year = Number(today.slice(0, 4))
  const days = (from: string, to: string): Span => ({ span: 'days', from, to, zone })
  return [
    { name: 'today', span: { span: 'last', days: 1, zone } },
    { name: 'yesterday', span: days(addDays(today, -1), addDays(today, -1)) },
    { name: 'this week', span: days(monday, today) },
    { name: 'last week', span: days(addDays(monday, -7), addDays(monday, -1)) },
    { name: 'this month', span: days(first, today) },
    { name: 'last month', span: days(`${lastOfBefore.slice(0, 7)}-01`, lastOfBefore) },
    { name: 'this year', span: days(`${year}-01-01`, today) },
    { name: 'last year', span: days(`${year - 1}-01-01`, `${year - 1}-12-31`) },
  ]
}

interface Preset {
  from: number
  length: number
  span: Span
  meaning: string
}

export function presetSpan(text: string, today: string, zone: string): Preset | null {
  for (const { name, span } of namedSpans(today, zone)) {
    const match = new RegExp(`\\b${name}\\b`, 'i').exec(text)
    if (match) return { from: match.index, length: name.length, span, meaning: name }
  }
  return null
}

interface Components {
  get(name: 'year' | 'month' | 'day'): number | null
  isCertain(name: 'day' | 'month' | 'year' | 'weekday'): boolean
}

/** First and last day of what was found: a month without a day is all of it. */
export function daysOf({ start, end }: { start: Components; end?: Components | null }): [string, string] {
  const two = (n: number | null) => String(n ?? 1).padStart(2, '0')
  const day = (one: Components) => `${one.get('year')}-${two(one.get('month'))}-${two(one.get('day'))}`
  const month = (one: Components) => `${one.get('year')}-${two(one.get('month'))}-01`
  const whole = (one: Components) => one.isCertain('month') && !one.isCertain('day') && !one.isCertain('weekday')
  const from = whole(start) ? month(start) : day(start)
  const until = end ?? start
  const to = whole(until) ? addDays(`${addDays(month(until), 40).slice(0, 7)}-01`, -1) : day(until)
  return [from, to]
}
