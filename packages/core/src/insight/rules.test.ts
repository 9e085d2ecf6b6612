import { describe, expect, it } from 'vitest'
import type { CapturedValue, ValueKind } from '../value/type.ts'
import type { FieldFacts, NoticedSave, RuleName } from './model.ts'
import { Noticer, type NoticingSettings, type Story } from './notice.ts'
import { rules } from './rules.ts'
import { limitAbove } from './rules/under-limit.ts'
import { reasonWords, storyHeadline, type StoryNames } from './words.ts'

const field = (kind: ValueKind, more: Partial<FieldFacts> = {}): FieldFacts => ({
  kind,
  derived: false,
  sensitive: false,
  effect: false,
  signOff: false,
  reference: false,
  ...more,
})
const [amount, status, members, begins, approvedBy, account, follows] = [1, 2, 3, 4, 5, 6, 7]
const fields: Record<number, FieldFacts> = {
  [amount]: field('number'),
  [status]: field('text'),
  [members]: field('set'),
  [begins]: field('date', { effect: true }),
  [approvedBy]: field('text', { signOff: true }),
  [account]: field('text', { sensitive: true }),
  [follows]: field('number', { derived: true }),
}
const hour = 3_600_000
const day = 24 * hour
/** A Monday at nine in the morning. */
const monday = Date.parse('2026-03-02T09:00:00Z')
let saveNumber = 0

function save(
  atMs: number,
  changes: [number, CapturedValue, CapturedValue, boolean?][],
  more: Partial<NoticedSave> = {},
): NoticedSave {
  const id = String(++saveNumber)
  return {
    id,
    atMs,
    typeId: 1,
    key: '["1"]',
    parent: null,
    action: 'change',
    actorId: 1,
    actorKind: 'person',
    claimed: false,
    correction: false,
    runId: null,
    transaction: `t${id}`,
    changes: changes.map(([fieldId, before, after, unseen]) => ({ fieldId, before, after, unseen: unseen ?? false })),
    ...more,
  }
}
const key = (n: number) => `["${n}"]`

function told(saves: readonly NoticedSave[], settings: NoticingSettings = {}): Story[] {
  const noticer = new Noticer(settings, { field: (id) => fields[id], zone: 'UTC' })
  const stories = new Map<string, Story>()
  for (const one of saves) {
    noticer.take(one)
    for (const story of noticer.drain()) stories.set(story.id, story)
  }
  return [...stories.values()]
}
const only = (rule: RuleName): NoticingSettings =>
  Object.fromEntries(rules.filter(({ name }) => name !== rule).map(({ name }) => [name, { on: false, parameters: {} }]))

const telling = new Set(['percent', 'factor', 'limit', 'value', 'least', 'most'])

const names: StoryNames = {
  actor: (id) => `actor ${id}`,
  actorKind: () => 'person',
  type: () => 'orders',
  field: (id) => ({
    name: ['', 'amount', 'status', 'members', 'begins', 'approved by', 'account', 'total'][id]!,
    typeId: 1,
  }),
  record: (ref) => `record ${ref.key}`,
  run: () => undefined,
  only: { typeId: 1, key: '["1"]' },
}

/** Ordinary work to be compared with: each week another record's amount moves by a few percent. */
function ordinary(weeks: number, more: Partial<NoticedSave> = {}): NoticedSave[] {
  return Array.from({ length: weeks }, (_, n) =>
    save(monday - (weeks - n) * 7 * day, [[amount, '100', String(102 + (n % 5))]], { key: key(1000 + n), ...more }),
  )
}

describe('each reason', () => {
  const cases: [RuleName, string, () => NoticedSave[], string | null][] = [
    [
      'unknown-actor',
      'a login nobody is known by',
      () => [save(monday, [[status, 'a', 'b']], { actorKind: 'unknown' })],
      '1 save of orders by actor 1, which nobody is known by',
    ],
    [
      'unknown-actor',
      'a claimed actor',
      () => [save(monday, [[status, 'a', 'b']], { claimed: true })],
      '1 save by somebody who only claims to be actor 1',
    ],
    ['unknown-actor', 'a known one', () => [save(monday, [[status, 'a', 'b']])], null],
    [
      'there-and-back',
      'a value that comes back',
      () => [save(monday, [[account, 'A', 'B']]), save(monday + 63 * hour, [[account, 'B', 'A']])],
      'Account of record ["1"] was changed, and changed back 63 hours later',
    ],
    [
      'there-and-back',
      'a value that comes back after weeks',
      () => [save(monday, [[account, 'A', 'B']]), save(monday + 20 * day, [[account, 'B', 'A']])],
      null,
    ],
    [
      'there-and-back',
      'a field that often comes back',
      () =>
        Array.from({ length: 40 }, (_, n) =>
          save(monday + n * day, [[status, n % 2 ? 'b' : 'a', n % 2 ? 'a' : 'b']], { key: key(Math.floor(n / 2) % 4) }),
        ).slice(10),
      'Status of record ["1"] was changed, and changed back 24 hours later',
    ],
    [
      'factor',
      'ten times as much',
      () => [...ordinary(8), save(monday, [[amount, '104', '1040']])],
      'Amount of record ["1"] became ten times what it was',
    ],
    [
      'factor',
      'a hundredth',
      () => [...ordinary(8), save(monday, [[amount, '104.00', '1.04']])],
      'Amount of record ["1"] became a hundredth of what it was',
    ],
    ['factor', 'with nothing to compare with', () => [save(monday, [[amount, '104', '1040']])], null],
    [
      'factor',
      'from nothing, through zero and not a number',
      () => [
        ...ordinary(8),
        save(monday, [[amount, '0', '10']]),
        save(monday, [[amount, null, '10']]),
        save(monday, [[amount, '-1', '10']]),
        save(monday, [[amount, 'NaN', 'Infinity']]),
      ],
      null,
    ],
    ['factor', 'what follows from others', () => [...ordinary(8), save(monday, [[follows, '104', '1040']])], null],
    [
      'lost-members',
      'many sets in one run',
      () =>
        Array.from({ length: 6 }, (_, n) =>
          save(monday, [[members, '{a,b,c}', '{}']], { key: key(n), runId: 9, actorKind: 'import' }),
        ),
      '6 orders lost all their members in one run',
    ],
    [
      'lost-members',
      'a member or two',
      () =>
        Array.from({ length: 6 }, (_, n) => save(monday, [[members, '{a,b,c}', '{a,b}']], { key: key(n), runId: 9 })),
      null,
    ],
    [
      'burst',
      'a run over many records',
      () => [
        ...ordinary(12),
        ...Array.from({ length: 60 }, (_, n) => save(monday, [[amount, '100', '110']], { key: key(n), runId: 9 })),
      ],
      'Amount of 60 orders rose by about 10 % in one run',
    ],
    [
      'burst',
      'a field known for days only',
      () => [
        ...ordinary(2),
        ...Array.from({ length: 60 }, (_, n) => save(monday, [[amount, '100', '110']], { key: key(n), runId: 9 })),
      ],
      null,
    ],
    [
      'burst',
      'saves from before runs were kept',
      () => [
        ...ordinary(12),
        ...Array.from({ length: 60 }, (_, n) => save(monday + n * 60_000, [[amount, '100', '110']], { key: key(n) })),
      ],
      null,
    ],
    [
      'under-limit',
      'again and again',
      () =>
        Array.from({ length: 6 }, (_, n) =>
          save(monday + n * day, [[amount, '10', `14${8 + (n % 2)}`]], { key: key(n) }),
        ),
      'Six values of amount just under 150, all by actor 1',
    ],
    [
      'far-outside',
      'changed to',
      () => [...menu(80), save(monday, [[amount, '425.00', '4250.50']])],
      'Amount of record ["1"] became 4,250.5, far above all that it held before',
    ],
    [
      'far-outside',
      'entered anew',
      () => [...menu(80), save(monday, [[amount, null, '7000']], { action: 'create' })],
      'Amount of record ["1"] became 7,000, far above all that it held before',
    ],
    [
      'far-outside',
      'far below',
      () => [...menu(80), save(monday, [[amount, '250', '-4000']])],
      'Amount of record ["1"] became −4,000, far below all that it held before',
    ],
    ['far-outside', 'somewhat above', () => [...menu(80), save(monday, [[amount, '425', '610']])], null],
    ['far-outside', 'with too few to compare', () => [...menu(20), save(monday, [[amount, '425', '4250']])], null],
    [
      'under-limit',
      'among other values',
      () =>
        Array.from({ length: 12 }, (_, n) =>
          save(monday + n * day, [[amount, '10', n % 2 ? '149' : '71']], { key: key(n) }),
        ),
      null,
    ],
    [
      'after-sign-off',
      'by somebody else',
      () => [save(monday, [[approvedBy, null, 'Ann']], { actorId: 2 }), save(monday + day, [[amount, '10', '12']])],
      'Amount of record ["1"] was changed by actor 1 after somebody else had signed it off',
    ],
    [
      'after-sign-off',
      'by the one who signed',
      () => [save(monday, [[approvedBy, null, 'Ann']]), save(monday + day, [[amount, '10', '12']])],
      null,
    ],
    [
      'after-sign-off',
      'after it was taken back',
      () => [
        save(monday, [[approvedBy, null, 'Ann']], { actorId: 2 }),
        save(monday, [[approvedBy, 'Ann', null]], { actorId: 2 }),
        save(monday + day, [[amount, '10', '12']]),
      ],
      null,
    ],
    [
      'back-dated',
      'far back',
      () => [...entries(40), save(monday, [[begins, null, '2025-04-02']], { action: 'create' })],
      'A record of orders takes effect eleven months before it was entered',
    ],
    [
      'back-dated',
      'with too few entries to compare',
      () => [...entries(5), save(monday, [[begins, null, '2025-04-02']], { action: 'create' })],
      null,
    ],
    [
      'back-dated',
      'a day that is none',
      () => [...entries(40), save(monday, [[begins, null, 'infinity']], { action: 'create' })],
      null,
    ],
    [
      'took-along',
      'a deletion with others',
      () => [1, 2, 3].map((typeId) => save(monday, [], { action: 'delete', typeId, transaction: 'x' })),
      'Record ["1"] was deleted, and 2 more records with it',
    ],
    [
      'took-along',
      'a job that clears up',
      () =>
        [1, 2, 3].map((typeId) => save(monday, [], { action: 'delete', typeId, transaction: 'x', actorKind: 'job' })),
      null,
    ],
    [
      'first-touch',
      'of a sensitive field',
      () => [...touches(), save(monday, [[account, 'A', 'B']])],
      'Actor 1 changed account of record ["1"] for the first time',
    ],
    [
      'first-touch',
      'by a newcomer',
      () => [...touches().filter((one) => one.actorId !== 1), save(monday, [[account, 'A', 'B']])],
      null,
    ],
    [
      'unusual-hours',
      'in the night',
      () => [...office(), save(monday + 17 * hour, [[status, 'a', 'b']])],
      'Actor 1 made 1 save at about 02:00, at which they never worked before',
    ],
    [
      'unusual-hours',
      'by a job',
      () => [...office(), save(monday + 17 * hour, [[status, 'a', 'b']], { actorKind: 'job', actorId: 5 })],
      null,
    ],
    [
      'gap',
      'a value that does not join',
      () => [save(monday, [[amount, '10', '12', true]])],
      'Amount of 1 record is not what it was before a gap in tracking',
    ],
  ]

  /** A choice of four amounts, entered and changed to, as of a deposit. */
  function menu(count: number): NoticedSave[] {
    return Array.from({ length: count }, (_, n) =>
      save(monday - (count - n) * day, [[amount, '250', ['0.00', '250', '425', '500'][(n * 7) % 4]!]], {
        key: key(5000 + n),
        action: n % 3 === 0 ? 'create' : 'change',
      }),
    )
  }
  /** Days of effect entered within the week, as is usual. */
  function entries(count: number): NoticedSave[] {
    return Array.from({ length: count }, (_, n) =>
      save(
        monday - (count - n) * day,
        [[begins, null, new Date(monday - (count - n + 3) * day).toISOString().slice(0, 10)]],
        { action: 'create', key: key(2000 + n) },
      ),
    )
  }
  /** A year in which actor 1 works on statuses and others on accounts. */
  function touches(): NoticedSave[] {
    return Array.from({ length: 60 }, (_, n) => [
      save(monday - (60 - n) * 6 * day, [[status, 'a', String(n)]], { key: key(3000 + n) }),
      save(monday - (60 - n) * 6 * day, [[account, 'a', String(n)]], { key: key(4000 + n), actorId: 2 }),
    ]).flat()
  }
  /** Months of work from nine to five. */
  function office(): NoticedSave[] {
    return Array.from({ length: 600 }, (_, n) =>
      save(monday - (100 - Math.floor(n / 6)) * day + (n % 6) * hour, [[status, 'a', String(n)]], {
        key: key(n),
        actorId: 1 + (n % 2),
      }),
    )
  }

  it.each(cases)('%s: %s', (rule, _, saves, headline) => {
    const stories = told(saves(), only(rule))
    expect(stories.map((story) => storyHeadline(story, names)).slice(-1)).toEqual(headline === null ? [] : [headline])
    // Told without what says something of a value, as of a masked field and in messages.
    for (const story of stories) {
      const reasons = story.reasons.map(({ figures, ...reason }) => ({
        ...reason,
        figures: Object.fromEntries(Object.entries(figures).filter(([figure]) => !telling.has(figure))),
      }))
      const words = [
        storyHeadline({ ...story, reasons }, names),
        ...reasons.map((reason) => reasonWords(reason, { ...story, reasons }, names)),
      ]
      expect(words.join(' ')).not.toMatch(/NaN|Infinity|undefined|just under 0|\b0 times/)
    }
    for (const story of stories)
      for (const reason of story.reasons)
        expect(reasonWords(reason, story, names)).not.toMatch(/NaN|Infinity|undefined/)
  })

  it('takes for usual what often lies outside', () => {
    const odd = Array.from({ length: 12 }, (_, n) => save(monday + n * day, [[amount, '425', '4250']], { key: key(n) }))
    expect(told([...menu(80), ...odd], only('far-outside')).reduce((sum, story) => sum + story.count, 0)).toBe(5)
  })

  it('covers every rule, with its words and usual figures within their limits', () => {
    expect([...new Set(cases.map(([rule]) => rule))].sort()).toEqual(rules.map((rule) => rule.name).sort())
    for (const { title, notices, limits, parameters } of rules) {
      expect(title && notices && limits).toBeTruthy()
      for (const { usual, least, most } of Object.values(parameters)) expect(usual >= least && usual <= most).toBe(true)
    }
  })

  it.each([
    [149, 150],
    [146.1, 150],
    [144, null],
    [150, null],
    [99, 100],
    [1, null],
    [0, null],
    [-5, null],
    [Number.NaN, null],
    [Infinity, null],
  ])('finds the round amount above %f', (value, limit) => expect(limitAbove(value, 3)).toBe(limit))
})

describe('noticing', () => {
  const week = () => [
    ...ordinary(8),
    save(monday, [[amount, '104', '1040']]),
    save(monday + hour, [[status, 'a', 'b']], { actorKind: 'unknown', actorId: 9, key: key(7) }),
    save(monday + 2 * hour, [[amount, '1040', '104']]),
    save(monday + 3 * hour, [[status, 'b', 'c']], { actorKind: 'unknown', actorId: 9, key: key(8) }),
  ]

  it('tells what belongs together once, with every reason, the heaviest first', () => {
    const stories = told(week())
    expect(stories.map((story) => [story.reasons.map(({ rule }) => rule), story.count])).toEqual([
      [['factor', 'there-and-back'], 2],
      [['unknown-actor'], 2],
    ])
    expect(storyHeadline(stories[0]!, names)).toBe(
      'Amount of record ["1"] became ten times what it was, and was changed back 2 hours later',
    )
  })

  it('goes on from what it kept as if it had never stopped', () => {
    const saves = week()
    const whole = told(saves)
    for (let stop = 0; stop <= saves.length; stop++) {
      const world = { field: (id: number) => fields[id], zone: 'UTC' }
      const stories = new Map<string, Story>()
      const first = new Noticer({}, world)
      for (const one of saves.slice(0, stop)) first.take(one)
      for (const story of first.drain()) stories.set(story.id, story)
      const second = new Noticer({}, world, JSON.parse(JSON.stringify(first.state)) as typeof first.state)
      for (const one of saves.slice(stop)) second.take(one)
      for (const story of second.drain()) stories.set(story.id, story)
      expect([...stories.values()]).toEqual(whole)
    }
  })

  it('says nothing of what a correction did, and nothing of a rule that is off', () => {
    expect(told(week().map((one) => ({ ...one, correction: true })))).toEqual([])
    const off = told(week(), { 'unknown-actor': { on: false, parameters: {} } })
    expect(off.map((story) => story.reasons[0]!.rule)).toEqual(['factor'])
  })

  it('stays whole when the clock goes back, and with a field and an actor nobody knows', () => {
    const saves = week()
    const back = [...saves, ...saves.map((one) => ({ ...one, id: `${one.id}b`, atMs: one.atMs - 400 * day }))]
    for (const story of told([...back, save(monday, [[99, 'x', 'y']], { actorId: 12345 })])) {
      expect(story.fromMs).toBeLessThanOrEqual(story.toMs)
      for (const reason of story.reasons)
        for (const figure of Object.values(reason.figures)) expect(Number.isFinite(figure)).toBe(true)
    }
  })

  it('takes a tuned parameter', () => {
    const saves = [save(monday, [[account, 'A', 'B']]), save(monday + 20 * day, [[account, 'B', 'A']])]
    const settings = { ...only('there-and-back'), 'there-and-back': { on: true, parameters: { days: 30 } } }
    expect(told(saves, settings)).toHaveLength(1)
  })
})
