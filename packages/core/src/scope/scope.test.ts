import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { matches, type ScopedChange } from './evaluate.ts'
import { actorKinds, isHollow, partsOf, withPart, withoutPart, type Scope } from './model.ts'
import { sentence, sentenceText, type ScopeNames } from './sentence.ts'
import { instantsOf, spanAround } from './span.ts'
import { parseScope, scopeEntries } from './url.ts'
import { anyScope } from './scope.arbitrary.ts'

const names: ScopeNames = {
  actor: (id) => ({ 1: 'Oona Marchetti', 2: 'Tariq Lindqvist' })[id],
  type: (id) => ({ 1: 'tenancies', 2: 'contractors' })[id],
  field: (id) =>
    ({
      11: { name: 'weekly rent', typeId: 1 },
      12: { name: 'deposit', typeId: 1 },
      21: { name: 'bank account', typeId: 2 },
    })[id],
  held: (fieldId, value) => (fieldId === 21 && value === '12' ? 'Kerr & Sons' : undefined),
  run: (id) => (id === 4 ? 'the rent uplift' : undefined),
  record: ({ key }) => (key === '["7"]' ? 'Tenancy 7' : undefined),
}
const zone = 'Europe/London'
const read = (text: string) => parseScope([...new URLSearchParams(text)])

describe('the sentence', () => {
  it.each([
    ['', 'Changes to anything tracked by anyone, at any time.'],
    ['what=t1,f21', 'Changes to tenancies and bank account of contractors by anyone, at any time.'],
    ['what=f11,f12', 'Changes to weekly rent and deposit of tenancies by anyone, at any time.'],
    [
      'how=create,delete,c.direct%2520SQL,r4',
      'Changes to anything tracked by anyone, created or deleted through direct SQL in the rent uplift, at any time.',
    ],
    ['how=!c.API', 'Changes to anything tracked by anyone, not through API, at any time.'],
    ['what=f12&value=to.0.00', 'Changes to deposit of tenancies to “0.00” by anyone, at any time.'],
    [
      'value=rose.10%&value=from-nothing',
      'Changes to anything tracked that rose by more than 10 % and from nothing by anyone, at any time.',
    ],
    [
      'reason=!given&state=!reviewed',
      'Changes to anything tracked by anyone, without a reason, at any time, not reviewed.',
    ],
    [
      'reason=has.phone&state=flagged,reverted',
      'Changes to anything tracked by anyone, with “phone” in the reason, at any time, flagged or set back.',
    ],
    ['record=alone.t1:["7"]', 'Changes to anything tracked on Tenancy 7 itself, without lines by anyone, at any time.'],
    [
      'when=2026-03-20T16:30Z..2026-03-20T17:00Z@Europe/London',
      'Changes to anything tracked by anyone, on 20 March 2026 from 16:30 to 17:00 (Europe/London).',
    ],
    [
      'what=f11&holds=f12.then.0.00',
      'Changes to weekly rent of tenancies on tenancies whose deposit was “0.00” by anyone, at any time.',
    ],
    [
      'holds=!f21.now-nothing&holds=!f21.now.12&holds=!f12.then.',
      'Changes to anything tracked on anything but contractors whose bank account is now nothing or “Kerr & Sons” and on tenancies whose deposit was “” by anyone, at any time.',
    ],
    ['what=!f11', 'Changes to anything but weekly rent of tenancies by anyone, at any time.'],
    ['who=!k.import', 'Changes to anything tracked by anyone but imports, at any time.'],
    ['who=a1,k.job', 'Changes to anything tracked by Oona Marchetti or scheduled jobs, at any time.'],
    ['record=t1:["7"]', 'Changes to anything tracked on Tenancy 7 by anyone, at any time.'],
    [
      'when=2026-03-01..2026-03-31@Europe/London',
      'Changes to anything tracked by anyone, from 1 to 31 March 2026 (Europe/London).',
    ],
    [
      'when=2026-02-27..2026-03-02@UTC',
      'Changes to anything tracked by anyone, from 27 February to 2 March 2026 (UTC).',
    ],
    [
      'when=2025-12-31..2026-01-01@UTC',
      'Changes to anything tracked by anyone, from 31 December 2025 to 1 January 2026 (UTC).',
    ],
    ['when=..2026-03-31@UTC', 'Changes to anything tracked by anyone, up to 31 March 2026 (UTC).'],
    ['when=!last7d@UTC', 'Changes to anything tracked by anyone, except in the last 7 days (UTC).'],
    [
      'clock=h22,h23,h0,h1,h9@UTC',
      'Changes to anything tracked by anyone, at any time, from 09:00 to 10:00 or 22:00 to 02:00 (UTC).',
    ],
    [
      'clock=!d6,d7@Europe/London',
      'Changes to anything tracked by anyone, at any time, except on Saturdays and Sundays (Europe/London).',
    ],
    ['who=a99', 'Changes to anything tracked by actor 99, at any time.'],
  ])('%s', (link, expected) => {
    const { scope, problems } = read(link)
    expect(problems).toEqual([])
    expect(sentenceText(sentence(scope, names))).toBe(expected)
  })
})

describe('a scope in a link', () => {
  it('round-trips', () => {
    fc.assert(
      fc.property(anyScope, (scope) => {
        const { scope: again, problems } = parseScope(scopeEntries(scope))
        expect(problems).toEqual([])
        expect(again).toEqual(scope)
      }),
    )
  })

  it.each([
    ['who=bob', 'neither an actor'],
    ['who=a1&who=a2', 'twice'],
    ['what=t1,x9', 'neither a record type'],
    ['what=', 'names nothing'],
    ['record=7', 'does not name a record'],
    ['record=t1:[7]', 'does not name a record'],
    ['record=t1:["7"]&record=!t1:["8"]', 'one or the other'],
    ['when=2026-02-30..@UTC', 'not a date'],
    ['when=2026-03-02..2026-03-01@UTC', 'comes after'],
    ['when=2026-03-02..2026-03-03', 'time zone'],
    ['when=last0d@UTC', 'outside'],
    ['when=..@UTC', 'names nothing'],
    ['when=effective.look@UTC', 'not a spell'],
    ['when=effective.2026-03-05T10:00Z..@UTC', 'no hours'],
    ['clock=h24@UTC', 'neither an hour'],
    ['clock=d0@UTC', 'neither an hour'],
    ['clock=h1', 'an hour means nothing without one'],
    ['clock=@UTC', 'names nothing'],
    ['how=sideways', 'neither an act'],
    ['holds=f1', 'which field held what'],
    ['holds=f1.once.5', 'which field held what'],
    ['holds=t1.now.5', 'which field held what'],
    ['holds=f1.now.5&holds=!f1.then.5', 'one or the other'],
    [`holds=f1.now.${'x'.repeat(501)}`, 'too long'],
    [Array.from({ length: 11 }, (_, at) => `holds=f${at + 1}.now.5`).join('&'), 'More than 10 fields'],
    [Array.from({ length: 51 }, (_, at) => `holds=f1.now.${at}`).join('&'), 'more than 50 values'],
    ['value=rose.-3', 'not an amount'],
    ['value=rose.x', 'not an amount'],
    ['value=has.', 'Nothing is asked'],
    ['value=odd', 'not a condition'],
    ['value=rose.1&value=!fell.1', 'say one or the other'],
    ['reason=perhaps', 'neither that a reason was given'],
    ['state=lost', 'nothing that can become'],
    ['colour=red', 'not a part'],
  ])('%s is named as not understood', (link, words) => {
    const { problems } = read(link)
    expect(problems.map((p) => p.words).join(' ')).toContain(words)
  })

  it('any text at all is answered, never thrown at', () => {
    fc.assert(
      fc.property(
        fc.array(fc.tuple(fc.constantFrom('who', 'what', 'record', 'when', 'x'), fc.string({ unit: 'binary' }))),
        (entries) => {
          const { scope, problems } = parseScope(entries)
          if (problems.length === 0) expect(parseScope(scopeEntries(scope)).scope).toEqual(scope)
        },
      ),
    )
  })
})

describe('matching', () => {
  const change: ScopedChange = {
    actorId: 1,
    actorKind: 'person',
    typeId: 1,
    fieldId: 11,
    key: '["7"]',
    parent: { typeId: 2, key: '["70"]' },
    action: 'change',
    restored: false,
    effectiveOn: '2026-03-05',
    channel: 'screen',
    runId: 4,
    transactionOf: ['9'],
    before: '100.00',
    after: '112.50',
    isNumber: true,
    reason: 'per Phone call',
    states: ['flagged'],
    stories: [4],
    cases: [7],
    atMs: Date.parse('2026-03-31T22:59:59Z'),
  }
  const now = Date.parse('2026-04-02T09:00:00Z')
  it.each([
    ['how=create,change', true],
    ['how=change,c.screen,r4', true],
    ['how=change,c.API', false],
    ['how=!delete', true],
    ['value=rose.12', true],
    ['value=rose.12.5', false],
    ['value=rose.12.4%', true],
    ['value=rose.12.5%', false],
    ['value=fell.1', false],
    ['value=from.100.00', true],
    ['value=from.100', false],
    ['value=to-nothing', false],
    ['value=has.12', true],
    ['value=from.100.00&value=rose.50', false],
    ['value=!rose.50', true],
    ['reason=given', true],
    ['reason=!given', false],
    ['reason=has.phone', true],
    ['reason=has.letter', false],
    ['state=flagged,reverted', true],
    ['state=!reviewed', true],
    ['state=s4', true],
    ['state=s5', false],
    ['state=reviewed,s4', true],
    ['state=c7', true],
    ['state=c8', false],
    ['state=!s5,c7', false],
    ['record=t2:["70"]', true],
    ['record=alone.t2:["70"]', false],
    ['record=alone.t1:["7"]', true],
    ['record=!t2:["70"]', false],
    ['', true],
    ['who=a1', true],
    ['who=k.import', false],
    ['who=!k.import', true],
    ['what=t2', false],
    ['what=f11', true],
    ['record=t1:["7"]', true],
    ['record=t2:["7"]', false],
    ['when=2026-03-01..2026-03-31@Europe/London', true],
    ['when=2026-03-01..2026-03-31@America/New_York', true],
    ['when=2026-04-01..@Asia/Kolkata', true],
    ['when=2026-04-01..@Europe/London', false],
    ['when=last3d@Europe/London', true],
    ['when=last2d@Europe/London', false],
    ['when=effective.2026-03-05..2026-03-05@Europe/London', true],
    ['when=effective.2026-03-06..@Europe/London', false],
    ['when=!effective..2026-03-04@UTC', true],
    ['how=restore', false],
  ])('%s: %s', (link, expected) => expect(matches(read(link).scope, change, now)).toBe(expected))

  it('a part and its opposite split the changes without remainder', () => {
    fc.assert(
      fc.property(anyScope, fc.constantFrom(...actorKinds), fc.integer({ min: 1, max: 3 }), (scope, actorKind, id) => {
        const one = { ...change, actorKind, actorId: id, fieldId: id }
        for (const part of partsOf(scope)) {
          const only: Scope = withPart({}, part)
          const opposite: Scope = withPart({}, { ...part, exclude: !part.exclude })
          expect(matches(only, one, now)).toBe(!matches(opposite, one, now))
        }
      }),
    )
  })

  it('removing a part never narrows', () => {
    fc.assert(
      fc.property(anyScope, (scope) => {
        if (!matches(scope, change, now)) return
        for (const part of partsOf(scope)) expect(matches(withoutPart(scope, part.part), change, now)).toBe(true)
      }),
    )
  })
})

describe('spans', () => {
  it('a spell to the minute has both of its instants in it', () => {
    for (const [from, to] of [
      ['2026-03-01T10:00:00Z', '2026-03-01T10:00:00Z'],
      ['2026-03-01T10:00:59.999999Z', '2026-03-02T00:59:59.999999Z'],
    ] as const) {
      const { fromMs, toMs } = instantsOf(spanAround(from, to, 'Europe/London'), 0)
      expect(fromMs).toBeLessThanOrEqual(Date.parse(from))
      expect(toMs).toBeGreaterThan(Date.parse(to))
      expect(toMs! - fromMs!).toBeLessThanOrEqual(Date.parse(to) - Date.parse(from) + 120_000)
    }
  })

  it('a day of the clocks going forward has 23 hours', () => {
    const { fromMs, toMs } = instantsOf({ span: 'days', from: '2026-03-29', to: '2026-03-29', zone }, 0)
    expect((toMs! - fromMs!) / 3_600_000).toBe(23)
  })
  it('knows a part that names nothing', () => {
    expect(
      isHollow({ part: 'when', exclude: false, span: { span: 'days', from: null, to: null, zone }, effective: false }),
    ).toBe(true)
  })
})
