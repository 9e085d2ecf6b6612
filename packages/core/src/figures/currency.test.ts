import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { instant, last, worlds } from '../state/state.arbitrary.ts'
import { timelineOf } from '../state/timeline.ts'
import { microsOf } from '../time/micros.ts'
import { currencyFieldOf, lifeWhile } from './currency.ts'
import { lifeOf, spellAt } from './over-time.ts'

const columns = (...names: string[]) => names.map((columnName, at) => ({ id: at + 2, columnName, baseType: 'text' }))
const amount = (columnName: string) => ({ id: 1, columnName, baseType: 'numeric' })

describe('the field that tells the currency of an amount', () => {
  it.each([
    ['amount', ['note', 'currency'], 'currency'],
    ['amount', ['CurrencyCode', 'note'], 'CurrencyCode'],
    ['unitPrice', ['currency_iso'], 'currency_iso'],
    ['betrag', ['währung'], 'währung'],
    // Named after the amount before named after nothing, and the longer name before the shorter.
    ['rent_amount', ['currency', 'rent_currency', 'deposit_currency'], 'rent_currency'],
    ['rent_amount_net', ['rent_currency', 'rent_amount_currency'], 'rent_amount_currency'],
    ['depositAmount', ['currency', 'rentCurrency'], 'currency'],
    // The only one there is.
    ['amount', ['billing_currency'], 'billing_currency'],
    // Of two that are named after something else nobody knows.
    ['amount', ['billing_currency', 'shipping_currency'], undefined],
    ['amount', ['currency_rate', 'currency_date_valid', 'currently_let', 'recurrency'], undefined],
    ['amount', [], undefined],
  ])('of %s among %j is %s', (name, others, wanted) => {
    expect(currencyFieldOf(amount(name), columns(...others))?.columnName).toBe(wanted)
  })

  it('is no number, day or mark', () => {
    for (const baseType of ['numeric(10,2)', 'boolean', 'date', 'timestamp with time zone', 'double precision'])
      expect(currencyFieldOf(amount('amount'), [{ id: 2, columnName: 'currency', baseType }])).toBeUndefined()
    expect(currencyFieldOf(amount('currency'), [amount('currency')])).toBeUndefined()
  })
})

describe('a field while another holds a value', () => {
  it('is at every moment what both say, and its spells follow one another', () => {
    fc.assert(
      fc.property(worlds, fc.constantFrom('a', 'b', null), ({ trail }, wanted) => {
        const [own, other] = [1, 2].map((field) => lifeOf(timelineOf(trail, field), () => undefined)) as [
          ReturnType<typeof lifeOf>,
          ReturnType<typeof lifeOf>,
        ]
        const life = lifeWhile(own, other, (value) => value === wanted)
        expect(life[0]!.from).toBeNull()
        expect(life.at(-1)!.to).toBeNull()
        for (let at = 1; at < life.length; at++) expect(life[at]!.from).toBe(life[at - 1]!.to)
        for (let second = -1; second <= last + 1; second++) {
          const at = microsOf(instant(Math.max(0, second))) + (second < 0 ? -1 : 500_000)
          const [its, told] = [spellAt(own, at)!.holding, spellAt(other, at)!.holding]
          const holding = spellAt(life, at)!.holding
          if (its.state === 'absent') expect(holding.state).toBe('absent')
          else if (told.state === 'unknown') expect(holding.state).toBe('unknown')
          else if (told.state === 'value' && told.value === wanted) expect(holding).toEqual(its)
          else expect(holding.state).toBe('absent')
        }
      }),
    )
  })

  it('is not known where nothing is known of the other', () => {
    const holding = { state: 'value' as const, value: '5' }
    const life = [{ from: null, to: null, holding, found: false, save: null }]
    expect(lifeWhile(life, undefined, () => true).map((spell) => spell.holding.state)).toEqual(['unknown'])
  })
})
