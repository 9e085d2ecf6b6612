import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { readWords } from './plain-words.ts'
import type { WordVocabulary } from './word-entries.ts'
import { scopeEntries } from './url.ts'

const vocabulary: WordVocabulary = {
  actors: [
    { id: 1, name: 'Oona Marchetti', kind: 'person' },
    { id: 2, name: 'Ishbel Coombe', kind: 'person' },
    { id: 3, name: 'Devika Coombe', kind: 'person' },
    { id: 4, name: 'Services import', kind: 'import' },
  ],
  types: [
    { id: 1, name: 'tenancy', plural: 'tenancies' },
    { id: 2, name: 'contractor', plural: 'contractors' },
    { id: 3, name: 'repair line', plural: 'repair lines' },
  ],
  fields: [
    { id: 11, typeId: 1, name: 'weekly rent' },
    { id: 12, typeId: 1, name: 'deposit' },
    { id: 13, typeId: 1, name: 'status' },
    { id: 14, typeId: 1, name: 'monthly rent' },
    { id: 15, typeId: 1, name: 'arrears status' },
    { id: 21, typeId: 2, name: 'bank account' },
    { id: 22, typeId: 2, name: 'status' },
    { id: 16, typeId: 1, name: 'officer id', refersTo: 4 },
    { id: 31, typeId: 3, name: 'unit price' },
  ],
  called: [
    { typeId: 4, value: '7', label: 'Ishbel Coombe' },
    { typeId: 4, value: '8', label: 'Devika Coombe' },
    { typeId: 4, value: '9', label: 'Tariq Lindqvist' },
  ],
  channels: ['screen', 'direct SQL'],
  units: ['Finance', 'Income & arrears'],
}
const context = { nowMs: Date.parse('2026-11-25T10:00:00Z'), zone: 'Europe/London' }
const read = (text: string) => readWords(text, vocabulary, context)
const link = (text: string) =>
  scopeEntries(read(text).scope)
    .map(([name, value]) => `${name}=${value}`)
    .join('&')
const unclear = (text: string) =>
  read(text)
    .pieces.filter((piece) => piece.state === 'unknown' || piece.state === 'ambiguous')
    .map(
      (piece) =>
        `${text.slice(piece.from, piece.to)}${piece.meaning.length > 0 ? `: ${piece.meaning.join(' or ')}` : ''}`,
    )

describe('plain words', () => {
  it.each([
    ['deposit', 'what=f12'],
    ['changes to deposit of tenancies', 'what=f12'],
    ['weekly rent and deposit on tenancies by Oona', 'what=f11,f12&who=a1'],
    ['who changed the bank account', 'what=f21&how=change'],
    ['status', 'what=f13,f22'],
    ['weekly rent on tenancies whose officer was Ishbel Coombe', 'what=f11&holds=f16.then.7'],
    ['changes to deposit of tenancies whose officer is now tariq by Oona', 'what=f12&holds=f16.now.9&who=a1'],
    [
      'tenancies whose officer was “Devika Coombe” or Tariq since 1 May 2026',
      'what=t1&holds=f16.then.8&holds=f16.then.9&when=2026-05-01..@Europe/London',
    ],
    ['contractors whose status is suspended', 'what=t2&holds=f22.now.suspended'],
    [
      'tenancies whose status was "Notice given" and whose officer was nothing',
      'what=t1&holds=f13.then.Notice given&holds=f16.then-nothing',
    ],
    ['tenancies whose weekly rent was 104.50 by imports', 'what=t1&holds=f11.then.104.50&who=k.import'],
    ['status of contractors', 'what=f22'],
    ['tenancies by anyone but imports', 'what=t1&who=!k.import'],
    ['tenancies by anyone but oona marchetti', 'what=t1&who=!a1'],
    ['repair line deleted through direct sql', 'what=t3&how=delete,c.direct%20SQL'],
    ['unit price to 149.50', 'what=f31&value=to.149.50'],
    ['deposit from 425 to 0.00', 'what=f12&value=from.425&value=to.0.00'],
    ['deposit to nothing', 'what=f12&value=to-nothing'],
    ['unit price rose by more than 10%', 'what=f31&value=rose.10%'],
    ['rent fell by more than 5', 'what=f11,f14&value=fell.5'],
    ['rent of tenancies by anyone but imports', 'what=f11,f14&who=!k.import'],
    ['price', 'what=f31'],
    ['"call back" in tenancies', 'what=t1&value=has.call back'],
    ['tenancies without a reason', 'what=t1&reason=!given'],
    ['not yet reviewed', 'state=!reviewed'],
    ['flagged by services import', 'who=a4&state=flagged'],
    ['today', 'when=last1d@Europe/London'],
    ['deposit since I last looked', 'what=f12&when=look@Europe/London'],
    ['tenancies restored', 'what=t1&how=restore'],
    ['deposit effective in March 2026', 'what=f12&when=effective.2026-03-01..2026-03-31@Europe/London'],
    ['asked about and flagged', 'state=asked,flagged'],
    ['deposit by me', 'what=f12&who=me'],
    ['tenancies by anyone but me', 'what=t1&who=!me'],
    ['by whoever has left, yesterday', 'who=left&when=2026-11-24..2026-11-24@Europe/London'],
    ['deposit by finance and income & arrears', 'what=f12&who=u.Finance,u.Income%20%26%20arrears'],
    ['deposit at weekends', 'what=f12&clock=d6,d7@Europe/London'],
    [
      'tenancies between 22:00 and 02:00 on working days, yesterday',
      'what=t1&when=2026-11-24..2026-11-24@Europe/London&clock=h22,h23,h0,h1,d1,d2,d3,d4,d5@Europe/London',
    ],
    ['by newcomers in the last 7 days', 'who=joined6m&when=last7d@Europe/London'],
    ['by whoever joined in the last 3 months', 'who=joined3m'],
    [
      'tenancies by anyone but who joined within the last 1 month, today',
      'what=t1&who=!joined1m&when=last1d@Europe/London',
    ],
    ['in the last 7 days', 'when=last7d@Europe/London'],
    ['yesterday', 'when=2026-11-24..2026-11-24@Europe/London'],
    ['last week', 'when=2026-11-16..2026-11-22@Europe/London'],
    ['this month', 'when=2026-11-01..2026-11-25@Europe/London'],
    ['in March 2026', 'when=2026-03-01..2026-03-31@Europe/London'],
    ['since 3 May 2026', 'when=2026-05-03..@Europe/London'],
    ['before 3 May 2026', 'when=..2026-05-02@Europe/London'],
    ['until 3 May 2026', 'when=..2026-05-03@Europe/London'],
    ['on 20/03/2026', 'when=2026-03-20..2026-03-20@Europe/London'],
    ['from 1 to 31 March 2026', 'when=2026-03-01..2026-03-31@Europe/London'],
    ['deposit by oona from 1 March 2026 to 5 March 2026', 'what=f12&who=a1&when=2026-03-01..2026-03-05@Europe/London'],
  ])('%s', (text, expected) => {
    expect(link(text)).toBe(expected)
  })

  it.each([
    ['depsit', 'what=f12', 'guessed'],
    ['contractros', 'what=t2', 'guessed'],
    ['oona marcheti', 'who=a1', 'guessed'],
  ])('forgives a slip: %s', (text, expected, state) => {
    expect(link(text)).toBe(expected)
    expect(read(text).pieces.map((piece) => piece.state)).toContain(state)
  })

  it.each([
    ['deposit by coombe', ['coombe: Ishbel Coombe or Devika Coombe']],
    ['deposit of zebras', ['zebras']],
    ['tenancies whose officer was Coombe', ['whose officer was Coombe: Ishbel Coombe or Devika Coombe']],
    ['tenancies whose officer was Nobody', ['whose officer was Nobody']],
    ['whose status is void', ['whose status is void: status of tenancies or status of contractors']],
    ['tenancies whose colour was red', ['whose colour was red']],
    ['everything purple by Oona', ['purple']],
    ['deposit', []],
  ])('says what it did not understand: %s', (text, expected) => {
    expect(unclear(text)).toEqual(expected)
  })

  it('answers any text, the same way every time, and places never overlap', () => {
    const word = fc.constantFrom(
      'deposit',
      'by',
      'Oona',
      'but',
      'coombe',
      '"x"',
      'from',
      'to',
      '5',
      'March',
      'rose by more than 3 %',
      'zzz',
      '💧',
      'not',
      'whose officer was',
      'whose status is now',
      'or',
    )
    fc.assert(
      fc.property(
        fc.oneof(
          fc.string({ unit: 'binary' }),
          fc.array(word).map((list) => list.join(' ')),
        ),
        (text) => {
          const { pieces } = read(text)
          expect(read(text)).toEqual(read(text))
          for (const [at, piece] of pieces.entries()) {
            expect(piece.to).toBeGreaterThan(piece.from)
            if (at > 0) expect(piece.from).toBeGreaterThanOrEqual(pieces[at - 1]!.to)
          }
        },
      ),
    )
  })
})
