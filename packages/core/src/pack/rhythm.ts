import { withPart, type Scope } from '../scope/model.ts'
import { addDays, atWallClock, wallClock } from '../time/zone.ts'
import { weekday, weekdayPlural } from '../time/weekday.ts'

/**
 * When a regular pack is made, each of the spell before: each week on a day of it (1 is Monday), of the week before, from Monday to
 * Sunday; each month or quarter on a day of its (first) month, of the month or quarter before.
 */
export interface Rhythm {
  each: 'week' | 'month' | 'quarter'
  on: number
  /** `HH:MM`. */
  at: string
  /** Whether it waits for the next day that is no Saturday, Sunday or holiday. */
  workingDay: boolean
}

export const rhythmSpells = ['week', 'month', 'quarter'] as const
/** No month is without this day. */
export const lastDayOfMonth = 28

/** One of its makings: the days that the pack is of, both included, and when it is made, in epoch milliseconds. */
export interface Turn {
  from: string
  to: string
  atMs: number
}

export interface TurnRequest {
  nowMs: number
  zone: string
  holidays: ReadonlySet<string>
}

/** The turns whose time came after a moment, oldest first; what lies more than eight spells back is let go. */
export function makingsDue(rhythm: Rhythm, { afterMs, ...request }: TurnRequest & { afterMs: number }): Turn[] {
  return turnsAround(rhythm, request).filter(({ atMs }) => atMs > afterMs && atMs <= request.nowMs)
}

/** The last turn that there would have been, whoever had asked for it. */
export function lastMaking(rhythm: Rhythm, request: TurnRequest): Turn {
  return makingsDue(rhythm, { ...request, afterMs: Number.NEGATIVE_INFINITY }).at(-1)!
}

/** What a pack of a turn is of: a scope that says no time, within the days of the turn. */
export const scopeOfTurn = (scope: Scope, { from, to }: Pick<Turn, 'from' | 'to'>, zone: string): Scope =>
  withPart(scope, { part: 'when', exclude: false, effective: false, span: { span: 'days', from, to, zone } })

/** The next turn. */
export function nextMaking(rhythm: Rhythm, request: TurnRequest): Turn {
  return turnsAround(rhythm, request).find(({ atMs }) => atMs > request.nowMs)!
}

/** Spells ahead and back that are looked at: a long row of holidays may move one past the next. */
const spellsAround = 8

function turnsAround(rhythm: Rhythm, { nowMs, zone, holidays }: TurnRequest): Turn[] {
  const today = wallClock(nowMs, zone).date
  return Array.from({ length: 2 * spellsAround + 1 }, (_, at) => {
    const begin = spellStart(rhythm.each, today, at - spellsAround)
    const nominal = addDays(begin, rhythm.on - 1)
    const day = rhythm.workingDay ? workingDayFrom(nominal, holidays) : nominal
    return {
      from: spellStart(rhythm.each, today, at - spellsAround - 1),
      to: addDays(begin, -1),
      atMs: atWallClock(day, rhythm.at, zone),
    }
  })
}

const monthsOf = { month: 1, quarter: 3 } as const

/** The first day of the spell in which a day lies, or of one so many spells later. */
function spellStart(each: Rhythm['each'], day: string, later: number): string {
  if (each === 'week') return addDays(day, 1 - weekday(day) + 7 * later)
  const months = monthsOf[each]
  const [year, month] = day.split('-').map(Number) as [number, number]
  const begin = Math.floor((month - 1) / months) * months + later * months
  return new Date(Date.UTC(year, begin, 1)).toISOString().slice(0, 10)
}

const saturday = 6
/** Whoever keeps so many holidays in a row is told on one of them. */
const longestWait = 31

function workingDayFrom(day: string, holidays: ReadonlySet<string>): string {
  for (let later = 0; later <= longestWait; later++) {
    const one = addDays(day, later)
    if (weekday(one) < saturday && !holidays.has(one)) return one
  }
  return day
}

const ordinal = (n: number) => {
  const tens = Math.floor((n % 100) / 10)
  return `${n}${tens === 1 ? 'th' : (['th', 'st', 'nd', 'rd'][n % 10] ?? 'th')}`
}

/** "each month on the 2nd at 06:00, or the next working day, of the month before". */
export function rhythmWords({ each, on, at, workingDay }: Rhythm): string {
  const when =
    each === 'week'
      ? `${weekdayPlural(on)} at ${at}`
      : `each ${each} on the ${ordinal(on)}${each === 'quarter' ? ' of its first month' : ''} at ${at}`
  return `${when}${workingDay ? ', or the next working day' : ''}, of the ${each} before`
}
