import { expect, it } from 'vitest'
import { foldRows, type CapturedRow } from './fold.ts'
import { contested, placesAfter, recordPlace } from './order.ts'

/**
 * A table under a key that is checked at once, written by transactions of which two may go on side by side, captured in
 * order and collected in batches that are cut anywhere between: however they are cut, the saves can be played one by one
 * and end with what the table holds.
 */
const keys = [...'012345678']

function seeded(seed: number): (below: number) => number {
  let state = seed >>> 0
  return (below) => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0
    return Math.floor((state / 2 ** 32) * below)
  }
}

class Business {
  readonly table = new Map<string, string>()
  readonly #draw: (below: number) => number
  #clock = 0
  #values = 0

  constructor(draw: (below: number) => number) {
    this.#draw = draw
  }

  #pick<T>(list: readonly T[]): T {
    return list[this.#draw(list.length)]!
  }

  /** Some statements of one transaction on some of the keys. @returns what is captured of them */
  transaction(name: string, own: readonly string[]): CapturedRow[] {
    return Array.from({ length: 1 + this.#draw(4) }, () => this.#statement(name, own)).flat()
  }

  #statement(name: string, own: readonly string[]): CapturedRow[] {
    const { table } = this
    const at = String(++this.#clock).padStart(6, '0')
    const row = (more: Partial<CapturedRow> & Pick<CapturedRow, 'key' | 'action'>): CapturedRow => ({
      transaction: name,
      at,
      typeId: 1,
      keyBefore: null,
      delta: {},
      ...more,
    })
    const there = own.filter((key) => table.has(key))
    const free = own.filter((key) => !table.has(key))
    const make = (key: string) => {
      const now = String(++this.#values)
      table.set(key, now)
      return row({ key, action: 'create', delta: { 1: [null, now] } })
    }
    const remove = (key: string) => {
      const was = table.get(key)!
      table.delete(key)
      return row({ key, action: 'delete', delta: { 1: [was, null] } })
    }
    /** All at once, in whatever order the table gives them. */
    const move = (to: ReadonlyMap<string, string>) => {
      const held = [...to].map(([key, next]) => [next, table.get(key)!] as const)
      for (const key of to.keys()) table.delete(key)
      for (const [key, value] of held) table.set(key, value)
      const rows = [...to].map(([keyBefore, key]) => row({ key, keyBefore, action: 'change' }))
      return this.#draw(2) ? rows : rows.reverse()
    }
    const kind = this.#draw(7)
    if (kind === 0 && free.length > 0) return [make(this.#pick(free))]
    if (there.length === 0) return []
    const one = this.#pick(there)
    if (kind === 1) return [remove(one)]
    if (kind === 2) {
      const was = table.get(one)!
      table.set(one, String(++this.#values))
      return [row({ key: one, action: 'change', delta: { 1: [was, table.get(one)!] } })]
    }
    // What a deletion sets off brings the record back, and the same deletion takes that as well.
    if (kind === 6) return [remove(one), { ...make(one), at: `${at} then` }, remove(one)]
    if (kind === 3 && free.length > 0) return move(new Map([[one, this.#pick(free)]]))
    if (kind === 4 && there.length > 1) {
      const other = this.#pick(there.filter((key) => key !== one))
      return move(
        new Map([
          [one, other],
          [other, one],
        ]),
      )
    }
    const next = new Map(there.map((key) => [key, own[own.indexOf(key) + 1]]))
    if (kind === 5 && ![...next.values()].includes(undefined)) return move(next as Map<string, string>)
    return []
  }
}

/** Which keys are there after saves, each of which has to be possible where it stands; an exchange happens at once. */
function played(saves: readonly CapturedRow[]): Map<string, string> {
  const state = new Map<string, string>()
  for (let at = 0; at < saves.length;) {
    const first = saves[at]!
    let end = at + 1
    while (
      end < saves.length &&
      first.keyBefore !== null &&
      saves[end]!.keyBefore !== null &&
      saves[end]!.at === first.at
    )
      end++
    const step = saves.slice(at, end)
    const held = step.map((save) => state.get(save.keyBefore ?? save.key))
    for (const [n, save] of step.entries()) {
      if (save.action === 'create') expect(state.has(save.key)).toBe(false)
      else expect([save, held[n] !== undefined]).toEqual([save, true])
      if (save.action !== 'create') state.delete(save.keyBefore ?? save.key)
    }
    for (const [n, save] of step.entries())
      if (save.action !== 'delete') state.set(save.key, save.delta['1']?.[1] ?? held[n]!)
    at = end
  }
  return state
}

it.each([1, 2, 3, 4, 5, 6])('saves can be played however batches are cut (%i)', (from) => {
  for (let seed = from * 1000; seed < from * 1000 + 500; seed++) {
    const draw = seeded(seed)
    const business = new Business(draw)
    const groups = Array.from({ length: 6 + draw(14) }, (_, n) => {
      if (draw(5) > 1) return business.transaction(`t${n}`, keys)
      const cut = 1 + draw(8)
      const sides = [business.transaction(`a${n}`, keys.slice(0, cut)), business.transaction(`b${n}`, keys.slice(cut))]
      const mixed: CapturedRow[] = []
      while (sides.some((side) => side.length > 0)) {
        const side = sides[draw(2)]!
        if (side.length > 0) mixed.push(side.shift()!)
      }
      return mixed
    })
    /** Keys at which a record stands, as the collector reads it from the ledger while the batch before is being written. */
    let standing = new Set<string>()
    let writing: CapturedRow[] = []
    const ledger: CapturedRow[] = []
    let batch: CapturedRow[] = []
    for (const [n, group] of groups.entries()) {
      batch.push(...group)
      if (draw(5) > 1 && n < groups.length - 1) continue
      const written = placesAfter(writing)
      const taken = new Set(
        contested(batch)
          .filter(({ typeId, key }) => written.get(recordPlace(typeId, key)) ?? standing.has(key))
          .map((place) => recordPlace(place.typeId, place.key)),
      )
      writing = foldRows(batch, (first) => first, taken)
      standing = new Set(played(ledger).keys())
      ledger.push(...writing)
      batch = []
    }
    expect([seed, [...played(ledger)].sort()]).toEqual([seed, [...business.table].sort()])
  }
})
