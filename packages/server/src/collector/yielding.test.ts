import { describe, expect, it } from 'vitest'
import { Yielding, type ProcessorTimes } from './yielding.ts'

/** A machine that is idle for some share of each hundred milliseconds. */
function machine(idleShare: number): () => ProcessorTimes {
  let rounds = -1
  return () => {
    rounds++
    return { all: rounds * 100, idle: rounds * 100 * idleShare }
  }
}

describe('a collector beside a business', () => {
  it('rests twice as long as it worked while the machine is full', () => {
    expect(new Yielding(machine(0.05)).restMs(40, 200)).toBe(80)
  })
  it('goes on at once while there is room', () => {
    expect(new Yielding(machine(0.3)).restMs(40, 200)).toBe(0)
  })
  it('never rests longer than a second, nor at all when it is far behind', () => {
    expect(new Yielding(machine(0)).restMs(4000, 200)).toBe(1000)
    expect(new Yielding(machine(0)).restMs(4000, 31_000)).toBe(0)
  })
})
