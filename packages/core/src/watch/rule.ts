import { amountText } from '../figures/amount.ts'
import { addDays, atWallClock, wallClock } from '../time/zone.ts'
import { daysWords, weekday, weekdayPlural } from '../time/weekday.ts'
import { assertNever } from '../words/assert-never.ts'
import { counted, listed } from '../words/list.ts'

/** How saves are counted together: those of one run, of one hour of UTC, or of one calendar day. */
export const watchSpells = ['run', 'hour', 'day'] as const
export type WatchSpell = (typeof watchSpells)[number]

/** Which differences of a number are added up: those both ways without their sign, or one way only. */
export const watchMoves = ['moves', 'rises', 'falls'] as const
export type WatchMove = (typeof watchMoves)[number]

/** Some days of the week (1 is Monday), all of them or those that are no holidays. */
export interface WatchDays {
  days: readonly number[]
  /** Whether nothing is expected of the days that are kept as holidays. */
  notHolidays?: boolean | undefined
}

/**
 * When a watch fires: when more than so many saves came in one spell (0: at the first); when a number moved by more than an
 * amount in one spell, all its differences together; when somebody made more saves of a record type in a day than is usual for the
 * two; when none has come by a time of some days; when something in scope stands
 * out; when an alarm is raised; when a guard meets a save; or at a time of some days, with what Today shows.
 */
export type WatchFires =
  | { fires: 'saves'; more: number; within: WatchSpell }
  | { fires: 'sum'; fieldId: number; way: WatchMove; over: string; within: WatchSpell }
  | { fires: 'unusual' }
  | ({ fires: 'missing'; by: string } & WatchDays)
  | { fires: 'stands-out' }
  | { fires: 'alarm' }
  | { fires: 'guard' }
  | ({ fires: 'digest'; at: string } & WatchDays)

/** Whether a watch fires of saves that a scope says; what it shows and what is wrong are of everything. */
export const hasScope = ({ fires }: Pick<WatchFires, 'fires'>): boolean =>
  fires !== 'alarm' && fires !== 'guard' && fires !== 'digest'

/**
 * The last time of some days at which the clock showed a time, up to a moment and within a fortnight; null where there was none.
 * @returns the day (`YYYY-MM-DD`) and the instant in epoch milliseconds
 */
export function lastTurn(
  { days, notHolidays }: WatchDays,
  time: string,
  zone: string,
  { nowMs, holidays }: { nowMs: number; holidays: ReadonlySet<string> },
): { day: string; atMs: number } | null {
  const today = wallClock(nowMs, zone).date
  for (let back = 0; back <= mostDaysBack; back++) {
    const day = addDays(today, -back)
    const atMs = atWallClock(day, time, zone)
    if (atMs <= nowMs && isOn({ days, notHolidays }, day, holidays)) return { day, atMs }
  }
  return null
}
const mostDaysBack = 14

/** Whether a day is one of some days. */
export const isOn = ({ days, notHolidays }: WatchDays, day: string, holidays: ReadonlySet<string>): boolean =>
  days.includes(weekday(day)) && !(notHolidays === true && holidays.has(day))

/** What one difference of a number adds to a sum, as exact decimal text; null where it is not of that way, or nothing. */
export function moveOf(way: WatchMove, rise: string): string | null {
  const down = rise.startsWith('-')
  if (!/[1-9]/.test(rise)) return null
  if ((way === 'rises' && down) || (way === 'falls' && !down)) return null
  return down ? rise.slice(1) : rise
}

/** When it speaks: at once, at each full hour, or at a time of the day or the week, of what has fired since. */
export type WatchSpeaks =
  | { speaks: 'once' }
  | { speaks: 'hourly' }
  | { speaks: 'daily'; at: string }
  | { speaks: 'weekly'; at: string; on: number }

/** Hours in which nothing is sent, `HH:MM`; they may go over midnight. */
export interface QuietHours {
  from: string
  to: string
}

export interface WatchTimes {
  speaks: WatchSpeaks
  quiet: QuietHours | null
  zone: string
}

/** What a watch counts saves in: the run, the hour or the day, as one text. */
export function watchBucket(
  within: WatchSpell,
  save: { id: string; runId: number | null; atMs: number },
  zone: string,
): string {
  switch (within) {
    case 'run':
      return save.runId === null ? `save:${save.id}` : `run:${save.runId}`
    case 'hour':
      return `hour:${new Date(save.atMs).toISOString().slice(0, 13)}`
    case 'day':
      return `day:${wallClock(save.atMs, zone).date}`
  }
}

/** What a watch counts saves in that looks for what is unusual: who, the record type, and the day. */
export const pairBucket = (actorId: number, typeId: number, day: string): string => `pair:${actorId}:${typeId}:${day}`

/** The parts of {@link pairBucket}; null of another. */
export function pairOf(bucket: string): { actorId: number; typeId: number; day: string } | null {
  const [, actorId, typeId, day] = /^pair:(\d+):(\d+):(\d{4}-\d\d-\d\d)$/.exec(bucket) ?? []
  return day === undefined ? null : { actorId: Number(actorId), typeId: Number(typeId), day }
}

/** When something that fired is told of, in epoch milliseconds; never before it fired, and never in quiet hours. */
export function nextSpeaking({ speaks, quiet, zone }: WatchTimes, firedMs: number): number {
  return afterQuiet(nextTurn(speaks, zone, firedMs), quiet, zone)
}

const hourMs = 3_600_000

function nextTurn(speaks: WatchSpeaks, zone: string, firedMs: number): number {
  switch (speaks.speaks) {
    case 'once':
      return firedMs
    case 'hourly':
      return Math.ceil(firedMs / hourMs) * hourMs
    case 'daily':
      return firstAfter(firedMs, speaks.at, zone, () => true)
    case 'weekly':
      return firstAfter(firedMs, speaks.at, zone, (date) => weekday(date) === speaks.on)
  }
}

function firstAfter(ms: number, time: string, zone: string, fits: (date: string) => boolean): number {
  const today = wallClock(ms, zone).date
  for (let days = 0; ; days++) {
    const date = addDays(today, days)
    const at = atWallClock(date, time, zone)
    if (fits(date) && at >= ms) return at
  }
}

/** Whether a time of the day (`HH:MM:SS`) lies in quiet hours. */
export function isQuiet({ from, to }: QuietHours, time: string): boolean {
  const now = time.slice(0, 5)
  return from <= to ? now >= from && now < to : now >= from || now < to
}

function afterQuiet(ms: number, quiet: QuietHours | null, zone: string): number {
  if (quiet === null || quiet.from === quiet.to || !isQuiet(quiet, wallClock(ms, zone).time)) return ms
  return firstAfter(ms, quiet.to, zone, () => true)
}

/** "at once", "each hour", "daily at 17:30", "Mondays at 07:00". */
export function speaksWords(speaks: WatchSpeaks): string {
  switch (speaks.speaks) {
    case 'once':
      return 'at once'
    case 'hourly':
      return 'each hour'
    case 'daily':
      return `daily at ${speaks.at}`
    case 'weekly':
      return `${weekdayPlural(speaks.on)} at ${speaks.at}`
  }
}

const spellWords: Readonly<Record<WatchSpell, string>> = { run: 'in one run', hour: 'in one hour', day: 'in one day' }

const onDays = (on: WatchDays) => `${daysWords(on.days)}${on.notHolidays ? ' but not on holidays' : ''}`

/**
 * When it fires, before the words of its scope: "when there are", "when more than 20 saves in one run are", "when weekly rent moves
 * by more than 5,000 in one day, all together, in", "when by 06:00, Mondays to Fridays, there are no".
 * @param field what the field is called whose differences it adds up
 */
export function firesWords(fires: Exclude<WatchFires, { fires: 'digest' }>, field: string | null): string {
  switch (fires.fires) {
    case 'saves':
      return fires.more === 0
        ? 'when there are'
        : `when more than ${counted(fires.more, 'save')} ${spellWords[fires.within]} are`
    case 'sum':
      return `when ${field ?? 'a field'} ${fires.way} by more than ${amountText(fires.over)} ${spellWords[fires.within]}, all together, in`
    case 'unusual':
      return 'when somebody makes more saves of a record type in one day than is usual for the two, in'
    case 'missing':
      return `when by ${fires.by}, ${onDays(fires)}, there are no`
    case 'stands-out':
      return 'when something stands out in'
    case 'alarm':
      return 'when there is an alarm'
    case 'guard':
      return 'when a guard refuses a save, warns of one or lets one by'
    default:
      return assertNever(fires)
  }
}

/** What a watch looks at, for a message: its scope, or what it is of where it has none. */
export function watchedWords({ fires }: Pick<WatchFires, 'fires'>, scope: string): string {
  if (fires === 'alarm') return 'Alarms.'
  if (fires === 'guard') return 'What guards meet.'
  return fires === 'digest' ? 'What Today shows.' : scope.replace(', at any time', '')
}

/** What a watch is told with. */
export interface WatchNames {
  told: readonly string[]
  /** The sentence of its scope, which has no time of its own. */
  scope: string
  /** What the field is called whose differences it adds up. */
  field: string | null
}

/** "Tell Maud Ollerton at once when there are changes to rent of tenancies by anyone." */
export function watchSentence(
  { fires, speaks }: { fires: WatchFires; speaks: WatchSpeaks },
  { told, scope, field }: WatchNames,
): string {
  const who = `Tell ${told.length === 0 ? 'nobody' : listed(told)}`
  if (fires.fires === 'digest') return `${who} at ${fires.at}, ${onDays(fires)}, what Today shows.`
  const when = `${who} ${speaksWords(speaks)} ${firesWords(fires, field)}`
  if (!hasScope(fires)) return `${when}.`
  const what = watchedWords(fires, scope)
  return `${when} ${what.charAt(0).toLowerCase()}${what.slice(1)}`
}
