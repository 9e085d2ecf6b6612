import { describe, expect, it } from 'vitest'
import { runKey, runWords, type RunnableSave } from './run.ts'

const save: RunnableSave = {
  atMs: 0,
  transaction: '7',
  typeId: 1,
  actor: 'A',
  channel: 'screen',
  declared: null,
  action: 'change',
  fieldIds: ['2', '1'],
}

describe('the run of a save', () => {
  it('is the declared one before all', () =>
    expect(runKey({ ...save, declared: 'uplift' }, 9)).toMatchObject({ kind: 'declared', key: '["A","uplift"]' }))
  it('is its transaction when that made several', () =>
    expect(runKey(save, 2)).toMatchObject({ kind: 'transaction', key: '7' }))
  it('is otherwise the burst it may belong to', () =>
    expect(runKey(save, 1)).toMatchObject({ kind: 'burst', openForMs: 60_000 }))

  it.each([
    ['another actor', { actor: 'B' }],
    ['another channel', { channel: 'API' }],
    ['another type', { typeId: 2 }],
    ['another action', { action: 'delete' as const }],
    ['other fields', { fieldIds: ['1'] }],
  ])('is another burst for %s', (_, other) =>
    expect(runKey({ ...save, ...other }, 1).key).not.toBe(runKey(save, 1).key),
  )
  it('is the same burst whatever the order of fields', () =>
    expect(runKey({ ...save, fieldIds: ['1', '2'] }, 1)).toEqual(runKey(save, 1)))

  it.each([
    ['declared', 'uplift', 412, 'uplift, 412 saves'],
    ['transaction', null, 4, 'one transaction of 4 saves'],
    ['burst', null, 14, 'a burst of 14 saves, each within a minute of the one before'],
    ['burst', null, 1, 'on its own'],
  ] as const)('%s %s of %i is “%s”', (kind, declared, saves, words) =>
    expect(runWords(kind, declared, saves)).toBe(words),
  )
})
