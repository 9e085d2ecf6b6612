import { cpus } from 'node:os'

/** Time that all processors of the machine have spent so far, and how much of it idle, in milliseconds. */
export interface ProcessorTimes {
  all: number
  idle: number
}

function processorTimes(): ProcessorTimes {
  const times = cpus().map((cpu) => cpu.times)
  const idle = times.reduce((sum, time) => sum + time.idle, 0)
  return { idle, all: times.reduce((sum, time) => sum + time.user + time.nice + time.sys + time.irq + time.idle, 0) }
}

const fullFrom = 0.9
const mostRestMs = 1000
const restPerWork = 2
/** Further behind than this nothing is put off any more. */
const patienceMs = 30_000

/**
 * Collecting can wait and the business cannot: while the machine is full, a collector rests between rounds, for twice
 * the time that a round took. Its rounds become larger and so cheaper a row, and it catches up when there is room.
 * Of a source on another machine this sees nothing, and then takes nothing from it either but the reading.
 */
export class Yielding {
  readonly #times: () => ProcessorTimes
  #before: ProcessorTimes
  constructor(times: () => ProcessorTimes = processorTimes) {
    this.#times = times
    this.#before = times()
  }

  /** To be asked after each round that took rows. @returns milliseconds to rest. */
  restMs(roundMs: number, behindMs: number): number {
    const now = this.#times()
    const [all, idle] = [now.all - this.#before.all, now.idle - this.#before.idle]
    this.#before = now
    if (all <= 0 || behindMs > patienceMs) return 0
    return 1 - idle / all >= fullFrom ? Math.min(mostRestMs, roundMs * restPerWork) : 0
  }
}
