import { addDays } from '@spoor/core'
import { at } from '../larkmere/calendar.ts'
import { Chance } from '../larkmere/chance.ts'
import { hire, type Officer } from '../larkmere/staff.ts'
import { found, fullSize, smallSize } from './beginning.ts'
import { Days, type Stage } from './days.ts'
import type { Incident } from './incident.ts'
import { plant } from './incidents.ts'
import { Recorder } from './recorder.ts'

/** Thirty months. */
export const historyDays = 913

export interface History {
  recorder: Recorder
  officers: Officer[]
  incidents: Incident[]
  /** When tracking began, ISO 8601. */
  from: string
  /** The midnight before which everything happened. */
  until: string
}

export interface HistoryOptions {
  seed: number
  small: boolean
  /** `YYYY-MM-DD`: the day after the last of the history. */
  until: string
  report?: (share: number) => void
}

/** Thirty months of Larkmere, the same for the same options. */
export function generateHistory({ seed, small, until, report = () => undefined }: HistoryOptions): History {
  const chance = new Chance(seed)
  const from = addDays(until, -historyDays)
  const officers = hire(chance.fork('staff'), from, historyDays)
  const recorder = new Recorder()
  const size = small ? smallSize : fullSize
  found(recorder, chance.fork('beginning'), size, officers, from)
  const stage: Stage = { recorder, chance: chance.fork('days'), size, officers, from, until }
  const days = new Days(stage)
  // The incidents draw from a generator of their own: what is ordinary is the same with and without them.
  const incidents = plant(days, { ...stage, chance: chance.fork('incidents') })
  days.play(report)
  recorder.trail.sort((a, b) => a.atMs - b.atMs || a.transaction - b.transaction)
  return {
    recorder,
    officers,
    incidents,
    from: new Date(at(from, 0)).toISOString(),
    until: new Date(at(until, 0)).toISOString(),
  }
}
