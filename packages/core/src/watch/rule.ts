import { addDays, atWallClock, wallClock } from '../time/zone.ts'
import { daysWords, weekday, weekdayPlural } from '../time/weekday.ts'
import { counted, listed } from '../words/list.ts'

/** How saves are counted together: those of one run, of one hour of UTC, or of one calendar day. */
export const watchSpells = ['run', 'hour', 'day'] as const
export type WatchSpell = (typeof watchSpells)[number]

/**
 * When a watch fires: when more than so many saves came in one spell (0: at the first), or when none has come by a time of
 * some days of the week (1 is Monday).
 */
export type WatchFires =
  { fires: 'saves'; more: number; within: WatchSpell } | { fires: 'missing'; by: string; days: readonly number[] }

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

/**
 * When it fires, before the words of its scope: "when there are ", "when there are more than 20 in one run of ", "when by 06:00,
 * Mondays to Fridays, there are no ".
 */
export function firesWords(fires: WatchFires): string {
  if (fires.fires === 'missing') return `when by ${fires.by}, ${daysWords(fires.days)}, there are no`
  return fires.more === 0
    ? 'when there are'
    : `when more than ${counted(fires.more, 'save')} ${spellWords[fires.within]} are`
}

/**
 * "Tell Maud Ollerton at once when there are changes to rent of tenancies by anyone."
 * @param scope the sentence of its scope, which has no time of its own
 */
export function watchSentence(told: readonly string[], speaks: WatchSpeaks, fires: WatchFires, scope: string): string {
  const what = scope.replace(', at any time', '')
  return `Tell ${told.length === 0 ? 'nobody' : listed(told)} ${speaksWords(speaks)} ${firesWords(fires)} ${what.charAt(0).toLowerCase()}${what.slice(1)}`
}
