import fc from 'fast-check'
import { addDays } from '../time/zone.ts'
import { actorKinds, changeStates, isHollow, scopeActions, type Scope, type ValueTest, type WhoGroup } from './model.ts'

/** Random scopes for property tests, here and in the server. Ids stay small so that they often match. */
const id = fc.integer({ min: 1, max: 6 })
const ids = fc.uniqueArray(id, { maxLength: 3 })
const zone = fc.constantFrom('Europe/London', 'UTC', 'America/New_York', 'Asia/Kolkata')
const date = fc.integer({ min: 0, max: 60 }).map((days) => addDays('2026-03-01', days))
const key = fc.constantFrom('["1"]', '["2"]', '["a,b","!:é"]', '["=1"]')

const daySpan = fc
  .tuple(date, fc.integer({ min: 0, max: 40 }), zone)
  .map(([from, days, z]) => ({ span: 'days' as const, from, to: addDays(from, days), zone: z }))
const span = fc.oneof(
  fc.tuple(fc.option(date), fc.option(date), zone).map(([a, b, z]) => {
    const [from, to] = a !== null && b !== null && a > b ? [b, a] : [a, b]
    return { span: 'days' as const, from, to, zone: z }
  }),
  fc.tuple(fc.integer({ min: 0, max: 80_000 }), fc.integer({ min: 1, max: 5000 }), zone).map(([from, length, z]) => {
    const at = (minutes: number) =>
      `${new Date(Date.parse('2026-03-01T00:00:00Z') + minutes * 60_000).toISOString().slice(0, 16)}Z`
    return { span: 'instants' as const, from: at(from), to: length % 5 === 0 ? null : at(from + length), zone: z }
  }),
  fc.record({ span: fc.constant('last' as const), days: fc.integer({ min: 1, max: 90 }), zone }),
)

const value = fc.constantFrom('10', '12.50', '-3', '0', 'a', '', '=x%_', 'NaN')
const valueTest: fc.Arbitrary<ValueTest> = fc.oneof(
  fc.record({ test: fc.constantFrom('from' as const, 'to' as const), value: fc.option(value) }),
  fc.record({ test: fc.constant('contains' as const), text: fc.constantFrom('A', '1', '%', '=x', '.5') }),
  fc.record({
    test: fc.constantFrom('rose' as const, 'fell' as const),
    by: fc.constantFrom('0', '2.5', '10', '25'),
    percent: fc.boolean(),
  }),
)

export const anyScope: fc.Arbitrary<Scope> = fc
  .record(
    {
      who: fc.record(
        {
          part: fc.constant('who' as const),
          exclude: fc.boolean(),
          actors: ids,
          kinds: fc.uniqueArray(fc.constantFrom(...actorKinds), { maxLength: 2 }),
          groups: fc.array(
            fc.constantFrom<WhoGroup>(
              { group: 'me' },
              { group: 'left' },
              { group: 'joined', months: 12 },
              { group: 'unit', unit: 'Income, arrears & “x”%' },
            ),
            { minLength: 1, maxLength: 2 },
          ),
        },
        { requiredKeys: ['part', 'exclude', 'actors', 'kinds'] },
      ),
      what: fc.record({ part: fc.constant('what' as const), exclude: fc.boolean(), types: ids, fields: ids }),
      record: fc.record({
        part: fc.constant('record' as const),
        exclude: fc.boolean(),
        lines: fc.boolean(),
        records: fc.array(fc.record({ typeId: id, key }), { minLength: 1, maxLength: 3 }),
      }),
      holds: fc.record({
        part: fc.constant('holds' as const),
        exclude: fc.boolean(),
        tests: fc.uniqueArray(
          fc.record({
            fieldId: id,
            now: fc.boolean(),
            values: fc.uniqueArray(fc.option(value), { minLength: 1, maxLength: 2 }),
          }),
          { minLength: 1, maxLength: 2, selector: ({ fieldId, now }) => `${fieldId} ${now}` },
        ),
      }),
      clock: fc.record({
        part: fc.constant('clock' as const),
        exclude: fc.boolean(),
        hours: fc.uniqueArray(fc.integer({ min: 0, max: 23 }), { maxLength: 6 }),
        weekdays: fc.uniqueArray(fc.integer({ min: 1, max: 7 }), { maxLength: 4 }),
        zone,
      }),
      how: fc.record(
        {
          part: fc.constant('how' as const),
          exclude: fc.boolean(),
          actions: fc.uniqueArray(fc.constantFrom(...scopeActions), { maxLength: 2 }),
          channels: fc.uniqueArray(fc.constantFrom('screen', 'API', 'odd, %é'), { maxLength: 2 }),
          runs: ids,
          transactions: fc.uniqueArray(fc.integer({ min: 1, max: 300 }).map(String), { minLength: 1, maxLength: 2 }),
        },
        { requiredKeys: ['part', 'exclude', 'actions', 'channels', 'runs'] },
      ),
      value: fc.record({
        part: fc.constant('value' as const),
        exclude: fc.boolean(),
        tests: fc.array(valueTest, { minLength: 1, maxLength: 2 }),
      }),
      reason: fc.record({
        part: fc.constant('reason' as const),
        exclude: fc.boolean(),
        contains: fc.constantFrom(null, 'phone', 'PHONE call', '%_'),
      }),
      state: fc.record(
        {
          part: fc.constant('state' as const),
          exclude: fc.boolean(),
          states: fc.uniqueArray(fc.constantFrom(...changeStates), { maxLength: 2 }),
          stories: fc.uniqueArray(fc.integer({ min: 1, max: 2 }), { maxLength: 1 }),
          cases: fc.uniqueArray(fc.integer({ min: 1, max: 3 }), { minLength: 1, maxLength: 2 }),
        },
        { requiredKeys: ['part', 'exclude', 'states', 'stories'] },
      ),
      when: fc.oneof(
        fc.record({ part: fc.constant('when' as const), exclude: fc.boolean(), span, effective: fc.constant(false) }),
        fc.record({
          part: fc.constant('when' as const),
          exclude: fc.boolean(),
          span: daySpan,
          effective: fc.constant(true),
        }),
      ),
    },
    { requiredKeys: [] },
  )
  .map((scope) => Object.fromEntries(Object.entries(scope).filter(([, part]) => !isHollow(part))) as Scope)
