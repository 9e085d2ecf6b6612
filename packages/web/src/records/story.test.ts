import { describe, expect, it } from 'vitest'
import type { Change, Save } from '@spoor/contract'
import { fieldsOf, savesBetween, trailOf } from '@spoor/core'
import { heldLong, heldNow, holdingShown, lanesOf } from './story.ts'

const change = (fieldId: number, before: string | null, after: string | null, more: Partial<Change> = {}): Change => ({
  fieldId,
  before,
  after,
  beforeCut: false,
  afterCut: false,
  masked: false,
  erased: false,
  inScope: true,
  revertedBy: null,
  ...more,
})
const save = (id: string, at: string, changes: Change[], action: Save['action'] = 'change'): Save => ({
  id,
  at,
  typeId: 1,
  key: '["1"]',
  label: 'one',
  parent: null,
  action,
  onBehalfOf: null,
  channel: 'screen',
  run: null,
  reason: null,
  correctionId: null,
  marks: [],
  changes,
  actor: { id: 1, name: 'Ann', kind: 'person', unit: null, leftOn: null, claimed: false, knownAs: null },
})

const saves = [
  save('1', '2026-01-01T00:00:00Z', [change(1, null, 'a')], 'create'),
  save('2', '2026-01-11T00:00:00Z', [change(1, 'a', 'b'), change(2, null, null, { masked: true })]),
  save('3', '2026-01-14T00:00:00Z', [change(1, 'b', 'a')]),
]
const coverage = [1, 2].map((fieldId) => ({ fieldId, from: '2025-12-01T00:00:00Z', to: null, because: null }))

describe('a story for the eye', () => {
  const trail = trailOf({ saves, coverage, found: [] })

  it('has a lane for every field, with what may not be seen as such', () => {
    expect(fieldsOf({ saves, coverage: [] })).toEqual([1, 2])
    const [first, second] = lanesOf(trail, [1, 2])
    expect(
      first!.segments.map(({ holding, by }) => [holding.state === 'value' ? holding.value : holding.state, by]),
    ).toEqual([
      ['unknown', null],
      ['absent', null],
      ['a', '1'],
      ['b', '2'],
      ['a', '3'],
    ])
    expect(second!.segments.at(-1)!.holding).toEqual({ state: 'unknown', why: 'masked' })
    expect(holdingShown(second!.segments.at(-1)!.holding, 'text', () => undefined)).toEqual({
      text: '••••••',
      isWords: false,
    })
  })

  it('says how long each value was held in all, and which one still is', () => {
    const held = heldLong(lanesOf(trail, [1])[0]!, Date.parse('2026-01-15T00:00:00Z'))
    const day = 86_400_000
    expect(held.map(({ ms, current }) => [ms / day, current])).toEqual([
      [11, true],
      [3, false],
    ])
  })

  it('names the saves between two moments whichever comes first', () => {
    const ids = (from: string, to: string) => savesBetween(saves, 1, from, to).map((one) => one.id)
    expect(ids('2026-01-01T00:00:00Z', '2026-01-14T00:00:00Z')).toEqual(['2', '3'])
    expect(ids('2026-01-14T00:00:00Z', '2026-01-01T00:00:00Z')).toEqual(['2', '3'])
    expect(ids('2026-01-11T00:00:00Z', '2026-01-12T00:00:00Z')).toEqual([])
  })

  it('takes what is there now for what never changed, and says what no save explains', () => {
    const story = { saves, found: [], coverage: [1, 2, 3].map((fieldId) => ({ ...coverage[0]!, fieldId })).slice(0, 3) }
    const untold = { ...story, saves: saves.slice(1).map((one) => ({ ...one, changes: one.changes.slice(0, 1) })) }
    const present = {
      at: '2026-02-01T00:00:00Z',
      there: true,
      waiting: false,
      lastSaveId: '3',
      values: [
        { fieldId: 1, value: 'z' },
        { fieldId: 2, value: 'q' },
      ],
    }
    expect(heldNow(untold, present)).toEqual({
      found: [{ fieldId: 2, at: present.at, value: 'q', hidden: null }],
      unexplained: [{ fieldId: 1, trail: { state: 'value', value: 'a' }, now: 'z' }],
    })
    const nothing = { found: [], unexplained: [] }
    expect(heldNow(untold, { ...present, waiting: true })).toEqual(nothing)
    expect(heldNow(untold, { ...present, lastSaveId: '4' })).toEqual(nothing)
    expect(heldNow(untold, { ...present, there: false, values: [] })).toEqual(nothing)
  })

  it('shows a reference by what it is called', () => {
    expect(
      holdingShown({ state: 'value', value: '7' }, 'int4', (held) => (held === '7' ? 'Seven' : undefined)).text,
    ).toBe('Seven')
    expect(holdingShown({ state: 'absent' }, 'text', () => undefined).text).toBe('no record')
  })
})
