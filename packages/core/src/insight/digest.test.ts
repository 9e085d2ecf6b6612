import { describe, expect, it } from 'vitest'
import type { Scope } from '../scope/model.ts'
import { digestSentences, digestText, type DigestFigures } from './digest.ts'
import { inWords, spellWords } from './words.ts'

const scope: Scope = {
  when: {
    part: 'when',
    exclude: false,
    effective: false,
    span: { span: 'instants', from: '2026-03-02T09:00Z', to: '2026-03-04T09:00Z', zone: 'UTC' },
  },
}
const figures: DigestFigures = {
  scope,
  saves: 449,
  changes: 1120,
  records: 583,
  kinds: [
    { kind: 'person', actors: 11, saves: 300 },
    { kind: 'import', actors: 2, saves: 148 },
    { kind: 'job', actors: 1, saves: 1 },
  ],
  run: { id: 7, typeId: 3, saves: 412 },
  type: { id: 3, saves: 430 },
  usual: 220,
  stories: 5,
}
const names = {
  actor: () => undefined,
  type: () => 'tenancies',
  field: () => undefined,
  record: () => undefined,
  run: () => undefined,
}
const text = (more: Partial<DigestFigures>) => digestText(digestSentences({ ...figures, ...more }, names))

describe('the digest', () => {
  it.each<[string, Partial<DigestFigures>, string]>([
    [
      'a busy spell',
      {},
      '449 saves by eleven people, two imports and one scheduled job changed 1,120 fields on 583 records, about twice what is usual in such a spell. Most of it is one run on 412 tenancies. Five things stand out. Everything else is like other weeks.',
    ],
    [
      'an ordinary one',
      { usual: 449, run: null, type: { id: 3, saves: 100 }, stories: 0 },
      '449 saves by eleven people, two imports and one scheduled job changed 1,120 fields on 583 records, about as much as usual in such a spell. Nothing stands out.',
    ],
    [
      'with nothing to compare',
      { usual: null, run: null, type: null, stories: 1 },
      '449 saves by eleven people, two imports and one scheduled job changed 1,120 fields on 583 records. There is too little history to say whether that is usual. One thing stands out. Everything else is like other weeks.',
    ],
    [
      'a quiet one',
      { saves: 0, usual: 0, stories: 0 },
      'Nothing was saved. That is usual for such a spell. Nothing stands out.',
    ],
    [
      'a strangely quiet one',
      { saves: 0, usual: 212, stories: 0 },
      'Nothing was saved. In such a spell 212 saves would be usual. Nothing stands out.',
    ],
    [
      'the very first',
      { saves: 0, usual: null, stories: 0 },
      'Nothing was saved. There is too little history to say whether that is usual. Nothing stands out.',
    ],
    [
      'for somebody who is not told',
      { stories: null, records: null, run: null, type: null, kinds: [{ kind: 'person', actors: 1, saves: 449 }] },
      '449 saves by one person changed 1,120 fields, about twice what is usual in such a spell.',
    ],
  ])('tells %s', (_, more, expected) => expect(text(more).replace(/\s+/g, ' ').trim()).toBe(expected))

  it('gives each figure the scope that counts it', () => {
    const pieces = digestSentences(figures, names).filter((piece) => piece.piece === 'figure')
    expect(pieces.map((piece) => [piece.text, piece.reading, Object.keys(piece.scope).sort().join()])).toEqual([
      ['449 saves', 'saves', 'when'],
      ['eleven people', 'saves', 'when,who'],
      ['two imports', 'saves', 'when,who'],
      ['one scheduled job', 'saves', 'when,who'],
      ['1,120 fields', 'changes', 'when'],
      ['583 records', 'records', 'when'],
      ['412 tenancies', 'saves', 'how,when'],
    ])
  })
})

it.each([
  [0.01, '1 minute'],
  [1, '60 minutes'],
  [63, '63 hours'],
  [96, '4 days'],
  [334 * 24, 'eleven months'],
  [800 * 24, '2 years'],
])('%f hours are %s', (hours, words) => expect(spellWords(hours)).toBe(words))
it.each([
  [0, 'no'],
  [12, 'twelve'],
  [1300, '1,300'],
])('%i is %s', (n, words) => expect(inWords(n)).toBe(words))
