import {
  currencyFieldOf,
  groupBy,
  needsAmounts,
  ofDifferences,
  severalCurrencies,
  valueKind,
  type Dimension,
  type NamedColumn,
  type PivotWork,
  type Scope,
  type Work,
} from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { heldBy } from '../ledger/held-sql.ts'
import { maskedFields } from '../ledger/masked.ts'
import { isLimited, reachIn } from '../ledger/reach.ts'
import { rowColumns, whereScopes } from '../ledger/scope-sql.ts'
import { keepSoon } from '../scope/reading.ts'
import type { FieldOfType, WorkRequest } from './ground.ts'
import { namesOf } from './names.ts'

/** The field that tells in which currency amounts are. */
export interface CurrencyField extends FieldOfType {
  /** Whether it is that of the record whose line the amount's is. */
  ofParent: boolean
  tracked: boolean
}

interface ColumnRow extends FieldOfType, NamedColumn {
  parentTypeId: number | null
  tracked: boolean
}

/**
 * The fields that tell the currency of amounts, by the amounts' own.
 * @param amounts all that there are where none are named
 */
export async function currenciesOf(
  db: Database,
  amounts: readonly number[] | null,
): Promise<Map<number, CurrencyField>> {
  const rows = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .select<ColumnRow[]>(
      'f.id',
      'f.type_id as typeId',
      'f.name',
      'f.column_name as columnName',
      'f.base_type as baseType',
      't.plural',
      't.parent_type_id as parentTypeId',
      db.raw('exists (select from spoor.coverage c where c.field_id = f.id) as tracked'),
    )
  const byType = groupBy(rows, ({ typeId }) => typeId)
  const wanted = amounts === null ? null : new Set(amounts)
  const told = new Map<number, CurrencyField>()
  for (const amount of rows) {
    if (wanted ? !wanted.has(amount.id) : valueKind(amount.baseType) !== 'number') continue
    const own = currencyFieldOf(amount, byType.get(amount.typeId)!)
    const found = own ?? currencyFieldOf(amount, byType.get(amount.parentTypeId ?? 0) ?? [])
    if (found) told.set(amount.id, { ...found, ofParent: own === undefined })
  }
  return told
}

/** The fields whose values have to be read before amounts are put together. */
export async function currencyFieldsFor(db: Database, work: Work | null, scopes: readonly Scope[]): Promise<number[]> {
  if (work === null || !needsAmounts(work)) return []
  const named = work.form === 'pivot' ? fieldsNamed(scopes) : work.fieldId === null ? [] : [work.fieldId]
  const told = [...(await currenciesOf(db, named)).values()]
  const known = told.filter(({ tracked, ofParent }) => tracked && (work.form === 'pivot' || !ofParent))
  return [...new Set(known.map(({ id }) => id))]
}

/** The fields that a scope names by themselves; null where it may be about others. */
function fieldsNamed([asked]: readonly Scope[]): readonly number[] | null {
  const what = asked?.what
  return what && !what.exclude && what.types.length === 0 ? what.fields : null
}

/** Why nobody knows whether amounts are of one currency; null where that is known. */
export function currencyDoubt(
  { id, name, plural, tracked, ofParent }: CurrencyField,
  { scopes, closed }: { scopes: readonly Scope[]; closed: ReadonlySet<number> },
  looks: 'of the record alone' | 'of its parent too',
): string | null {
  const doubt = 'Whether these amounts are of one currency is not known'
  // What is not theirs to see is not named either.
  if (isLimited(reachIn(scopes))) return `${doubt} to whoever sees a part of the trail.`
  if (!tracked) return `${doubt}: ${name} of ${plural} is not tracked.`
  if (closed.has(id)) return `${doubt}: ${name} of ${plural} is masked or left out.`
  if (ofParent && looks === 'of the record alone')
    return `${doubt}: that is told by ${name} of ${plural}, which is not looked at here. A pivot looks at it.`
  return null
}

const mostNamed = 3

/**
 * Holds amounts of several currencies apart.
 * @param met the fields whose differences are put together; null: any
 * @returns the dimensions that have to hold them apart, and why that is not known
 * @throws Problem where they would be put together
 */
export async function apartByCurrency(
  db: Database,
  scopes: readonly Scope[],
  { work, closed = new Set(), personId = null }: WorkRequest<PivotWork>,
  nowMs: number,
): Promise<{ apart: Dimension[]; doubt: string | null }> {
  const nothing = { apart: [], doubt: null }
  if (!ofDifferences.has(work.measure)) return nothing
  const told = await currenciesOf(db, fieldsNamed(scopes))
  if (told.size === 0) return nothing
  const met = db('ledger.change as r')
    .distinct('r.field_id')
    .whereNotNull('r.rise')
    .whereRaw('r.field_id = any(?::int[])', [boundArray([...told.keys()])])
  whereScopes(met, scopes, 'change', 'r', nowMs)
  const amounts = await met.pluck<number[]>('r.field_id')
  const hidden = new Set([...closed, ...(await maskedFields(db))])
  const apart: Dimension[] = []
  let doubt: string | null = null
  for (const [id, own] of groupBy(amounts, (amount) => told.get(amount)!.id)) {
    const currency = told.get(own[0]!)!
    const why = currencyDoubt(currency, { scopes, closed: hidden }, 'of its parent too')
    if (why !== null) {
      doubt ??= why
      continue
    }
    if (!db.isTransaction) await keepSoon(db, [id], { personId })
    const values = await heldWith(db, scopes, own, id, nowMs)
    if (values.length <= 1) continue
    const dimension: Dimension = `held.${id}`
    if (work.rows === dimension || work.columns === dimension) apart.push(dimension)
    else throw await mixed(db, scopes, currency, values, nowMs)
  }
  return { apart, doubt }
}

/** What a field held at the time of differences, as members of a dimension, where that is known. */
async function heldWith(
  db: Database,
  scopes: readonly Scope[],
  amounts: readonly number[],
  currencyId: number,
  nowMs: number,
): Promise<string[]> {
  const [sql, bindings] = heldBy({ fieldId: currencyId, now: false }, rowColumns('change', 'r'))
  const held = db('ledger.change as r')
    .select(db.raw(`${sql}::text as value`, bindings))
    .whereNotNull('r.rise')
    .whereRaw('r.field_id = any(?::int[])', [boundArray(amounts)])
  whereScopes(held, scopes, 'change', 'r', nowMs)
  return await db
    .from(held.as('h'))
    .whereNotNull('value')
    .distinct('value')
    .orderBy('value')
    .limit(mostNamed + 1)
    .pluck<string[]>('value')
}

async function mixed(
  db: Database,
  scopes: readonly Scope[],
  { id, name, plural }: CurrencyField,
  values: readonly string[],
  nowMs: number,
): Promise<Problem> {
  const names = await namesOf(db, scopes, `held.${id}`, values.slice(0, mostNamed), nowMs)
  return new Problem(
    'not-together',
    `${severalCurrencies(`${name} of ${plural}`, names, values.length > mostNamed)}. Nothing was reckoned: put “${name} of ${plural} at the time” in the rows or columns, or name one in the sentence.`,
  )
}
