import fc from 'fast-check'
import { addDays } from '../time/zone.ts'
import { actorKinds, isHollow, type Scope } from './model.ts'

/** Random scopes for property tests, here and in the server. Ids stay small so that they often match. */
const id = fc.integer({ min: 1, max: 6 })
const ids = fc.uniqueArray(id, { maxLength: 3 })
const zone = fc.constantFrom('Europe/London', 'UTC', 'America/New_York', 'Asia/Kolkata')
const date = fc.integer({ min: 0, max: 60 }).map((days) => addDays('2026-03-01', days))
const key = fc.constantFrom('["1"]', '["2"]', '["a,b","!:é"]', '["=1"]')

const span = fc.oneof(
  fc.tuple(fc.option(date), fc.option(date), zone).map(([a, b, z]) => {
    const [from, to] = a !== null && b !== null && a > b ? [b, a] : [a, b]
    return { span: 'days' as const, from, to, zone: z }
  }),
  fc.record({ span: fc.constant('last' as const), days: fc.integer({ min: 1, max: 90 }), zone }),
)

export const anyScope: fc.Arbitrary<Scope> = fc
  .record(
    {
      who: fc.record({
        part: fc.constant('who' as const),
        exclude: fc.boolean(),
        actors: ids,
        kinds: fc.uniqueArray(fc.constantFrom(...actorKinds), { maxLength: 2 }),
      }),
      what: fc.record({ part: fc.constant('what' as const), exclude: fc.boolean(), types: ids, fields: ids }),
      record: fc.record({
        part: fc.constant('record' as const),
        exclude: fc.boolean(),
        lines: fc.boolean(),
        records: fc.array(fc.record({ typeId: id, key }), { minLength: 1, maxLength: 3 }),
      }),
      when: fc.record({ part: fc.constant('when' as const), exclude: fc.boolean(), span }),
    },
    { requiredKeys: [] },
  )
  .map((scope) => Object.fromEntries(Object.entries(scope).filter(([, part]) => !isHollow(part))) as Scope)
