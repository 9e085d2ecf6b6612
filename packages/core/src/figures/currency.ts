import { absent, type Holding } from '../state/trail.ts'
import { listed, spoken } from '../words/list.ts'
import type { Life, LifeSpell } from './over-time.ts'

/** A field of a record type, as its source names it. */
export interface NamedColumn {
  id: number
  columnName: string
  baseType: string
}

/** What a column that holds a currency is called in the languages whose business databases are likely to be met. */
const currencyWords = new Set(['currency', 'ccy', 'curr', 'valuta', 'devise', 'moneda', 'moeda', 'waehrung', 'währung'])
/** What may follow the word without making it another thing; a rate or a date of a currency is none. */
const itsForm = new Set(['code', 'id', 'iso', 'cd', 'key', 'symbol', 'no', 'nr'])
/** Amounts, days and marks are no currency, whatever they are called. */
const neverCurrency = /^(numeric|real|float|double|bool|date|time|interval|bytea|money)/

/** "amountCurrency_code" as `amount`, `currency`, `code`. */
const wordsOf = (name: string): string[] =>
  spoken(name)
    .split(/[^\p{L}\d]+/u)
    .filter((word) => word !== '')

/** The words before that of a currency; null where a column holds none. */
function owner(name: string): string[] | null {
  const words = wordsOf(name)
  const at = words.findIndex((word) => currencyWords.has(word))
  return at >= 0 && words.slice(at + 1).every((word) => itsForm.has(word)) ? words.slice(0, at) : null
}

/**
 * The field that says in which currency an amount of the same record is, told by its name: that which is named after the
 * amount, else the one that is named after nothing, else the only one there is.
 * @param fields of the amount's record type
 */
export function currencyFieldOf<F extends NamedColumn>(amount: NamedColumn, fields: readonly F[]): F | undefined {
  const own = wordsOf(amount.columnName)
  const candidates = fields.flatMap((field) => {
    const after = field.id === amount.id || neverCurrency.test(field.baseType) ? null : owner(field.columnName)
    return after === null ? [] : [{ field, after }]
  })
  const named = candidates
    .filter(({ after }) => after.length > 0 && after.every((word, at) => own[at] === word))
    .sort((a, b) => b.after.length - a.after.length)
  const best = named[0] ?? candidates.find(({ after }) => after.length === 0)
  return (best ?? (candidates.length === 1 ? candidates[0] : undefined))?.field
}

/** @param field that tells the currency, "currency of invoices" @param more whether there are others than those named */
export function severalCurrencies(field: string, names: readonly string[], more = false): string {
  const told = more ? `${names.join(', ')} and others` : listed(names)
  return `These amounts are of several currencies: ${field} is ${told}. They are not put together`
}

const earliest = (...instants: (number | null)[]): number | null =>
  instants.reduce((first, one) => (first === null ? one : one === null ? first : Math.min(first, one)), null)

/**
 * A field of a record as far as another field of it holds a value: elsewhere as if the record were not there, and not known
 * where the other is not known.
 * @param other undefined where nothing is known of it
 */
export function lifeWhile(life: Life, other: Life | undefined, isIt: (value: string | null) => boolean): Life {
  const others: Life = other ?? [{ from: null, to: null, holding: unseen, found: false, save: null }]
  const spells: LifeSpell[] = []
  let [at, place] = [0, 0]
  while (at < life.length && place < others.length) {
    const [spell, its] = [life[at]!, others[place]!]
    const holding = withinOf(spell.holding, its.holding, isIt)
    const last = spells.at(-1)
    if (!last || !isSame(last.holding, holding)) {
      // Whichever of the two began here brought it about; a save that moved both is the same.
      const begun = its.from !== null && (spell.from === null || its.from > spell.from) ? its : spell
      if (last) last.to = begun.from
      spells.push({ from: begun.from, to: null, holding, found: begun.found, save: begun.save })
    }
    const end = earliest(spell.to, its.to)
    if (end === null) break
    if (spell.to === end) at++
    if (its.to === end) place++
  }
  return spells
}

const unseen: Holding = { state: 'unknown', why: 'untracked' }

function isSame(a: Holding, b: Holding): boolean {
  if (a === b || (a.state === 'absent' && b.state === 'absent')) return true
  return a.state === 'unknown' && b.state === 'unknown' && a.why === b.why
}

function withinOf(own: Holding, other: Holding, isIt: (value: string | null) => boolean): Holding {
  if (own.state === 'absent') return own
  if (other.state === 'unknown') return other
  return other.state === 'value' && isIt(other.value) ? own : absent
}
