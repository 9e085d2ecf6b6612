import { counted, needsValues, parseScope, parseWork, type Scope } from '@spoor/core'
import type { Knex } from 'knex'
import type { Closed } from '../changes/csv.ts'
import { Problem } from '../errors.ts'
import { changesIn } from '../ledger/in-scope.ts'
import { maskedFields } from '../ledger/masked.ts'
import { nothing } from '../ledger/reach.ts'
import type { SignedIn } from '../http/bind.ts'
import type { Database } from '../database/knex.ts'
import { requestedScopes } from '../scope/request.ts'
import type { PackRow } from './store.ts'

/** What of a pack is not to be read, and why. */
export interface Closings {
  /** Of fields as a whole. */
  fields: ReadonlyMap<number, string>
  /** Of single changes, by {@link changePlace}: those that are meant, and those of the same records that hold the same values. */
  changes: ReadonlyMap<string, string>
  /** Of what a record holds in a field, by {@link cellPlace}, whenever that is. */
  cells: ReadonlyMap<string, string>
  /** How many changes each of the scopes closes that are in the pack. */
  counts: readonly number[]
}

export const maskedWhy = 'masked by the tracking plan'
export const blackedWhy = (why: string) => `blacked out: ${why}`
/** More are not held in memory. */
const mostChanges = 500_000

const changePlace = (saveId: string, fieldId: number) => `${saveId} ${fieldId}`
const cellPlace = (typeId: number, key: string, fieldId: number) => `${typeId} ${fieldId} ${key}`

/** Why a change is not to be read; undefined where it is. */
export const whyClosed = (
  { fields, changes }: Closings,
  row: { save_id: string; field_id: number },
): string | undefined => fields.get(row.field_id) ?? changes.get(changePlace(row.save_id, row.field_id))

/** How many single changes are closed of each field, and why, beyond fields that are closed as a whole. */
export function closedByField({ fields, changes }: Closings): { fieldId: number; why: string; values: number }[] {
  const told = new Map<string, { fieldId: number; why: string; values: number }>()
  for (const [place, why] of changes) {
    const fieldId = Number(place.split(' ')[1])
    if (fields.has(fieldId)) continue
    const one = told.get(`${fieldId} ${why}`) ?? { fieldId, why, values: 0 }
    one.values++
    told.set(`${fieldId} ${why}`, one)
  }
  return [...told.values()]
}

/** Why what a record holds in a field is not to be read; undefined where it is. */
export const whyCellClosed = (
  { fields, cells }: Closings,
  typeId: number,
  key: string,
  fieldId: number,
): string | undefined => fields.get(fieldId) ?? cells.get(cellPlace(typeId, key, fieldId))

/** Whether something of a field is not to be read in some record. */
export const closesSome = ({ fields, cells }: Closings, fieldId: number): boolean =>
  fields.has(fieldId) || [...cells.keys()].some((place) => place.split(' ')[1] === String(fieldId))

/** What stands in a table for a value that is left out: never to be taken for a value. */
export const closedText =
  (closings: Closings): Closed =>
  (row) => {
    const why = whyClosed(closings, row)
    return why === undefined ? undefined : `[${why}]`
  }

/** A scope whose changes are left out of a pack, as it is meant for whoever makes that, and why. */
export interface BlackedScope {
  why: string
  scopes: readonly Scope[]
}

/**
 * The scopes that are left out of a pack, as they are meant.
 * @param waits as {@link requestedScopes} does
 * @throws Problem where one would mean less to whoever makes it than it says: what it leaves open would be read
 */
export async function blackedScopesOf(
  db: Database,
  blacked: readonly { scope: string; why: string }[],
  person: SignedIn,
  { waits = false }: { waits?: boolean } = {},
): Promise<BlackedScope[]> {
  const none = JSON.stringify(nothing)
  const meant: BlackedScope[] = []
  for (const { scope: text, why } of blacked) {
    const { scope } = parseScope(new URLSearchParams(text))
    const scopes = await requestedScopes(db, text, person, { waits })
    const isLess = scopes.slice(1).some((one) => JSON.stringify(one) === none)
    if (isLess || scope.when?.effective || Object.keys(scope).length === 0)
      throw new Problem(
        'rule-broken',
        'What is to be blacked out is said there in a way that would leave some of it open to whoever reads the pack. No pack was made: name records, people, fields or saves instead.',
      )
    meant.push({ why, scopes })
  }
  return meant
}

/**
 * What is not to be read in a pack of some scopes.
 * @throws Problem where there is too much of it, or it would be found out by what is worked out beside it
 */
export async function closingsOf(
  db: Knex,
  { blacked, work }: Pick<PackRow, 'blacked' | 'work'>,
  { scopes, out, nowMs }: { scopes: readonly Scope[]; out: readonly BlackedScope[]; nowMs: number },
): Promise<Closings> {
  const masked = [...(await maskedFields(db))].map((fieldId) => [fieldId, maskedWhy] as const)
  const own = Object.entries(blacked).map(([fieldId, why]) => [Number(fieldId), blackedWhy(why)] as const)
  if (out.length > 0 && work !== null) demandCounts(work)
  const [changes, cells] = [new Map<string, string>(), new Map<string, string>()]
  const counts: number[] = []
  for (const one of out) counts.push(await addChanges(db, one, { scopes, nowMs, changes, cells }))
  return { fields: new Map([...masked, ...own]), changes, cells, counts }
}

/** @throws Problem where it is made from values: those that are left out would be in it */
function demandCounts(text: string): void {
  const work = parseWork(text)
  if (work === null || !needsValues(work)) return
  throw new Problem(
    'not-allowed',
    'What is worked out there is made from values, and some values are blacked out by record, person or change. No pack was made: leave out what is worked out, or black out whole fields.',
  )
}

/**
 * Closes the changes that a scope means, and what else of the same record and field in the pack holds one of their values: what
 * one change brought is what the next one met. Records are followed under every key that they had.
 * @returns how many in the pack
 */
async function addChanges(
  db: Knex,
  { why, scopes: meant }: BlackedScope,
  {
    scopes,
    nowMs,
    changes,
    cells,
  }: { scopes: readonly Scope[]; nowMs: number; changes: Map<string, string>; cells: Map<string, string> },
): Promise<number> {
  const { rows } = await db.raw<{
    rows: { id: string | null; type_id: number; field_id: number; key: string }[]
  }>(
    `with recursive seed as materialized (
       select c.type_id, c.record_key, c.field_id, c.before, c.after
         from (?) m join ledger.change c on c.save_id = m.id and c.captured_at = m.captured_at and c.field_id = m.field_id),
     thread as (
       select distinct type_id, record_key as root, record_key as key from seed
       union
       select t.type_id, t.root, o.key from thread t cross join lateral (
         select s.key_before as key from ledger.save s where s.type_id = t.type_id and s.record_key = t.key and s.key_before is not null
         union all select s.record_key from ledger.save s where s.type_id = t.type_id and s.key_before = t.key) o),
     place as materialized (
       select distinct s.type_id, s.field_id, t.key from seed s join thread t on t.type_id = s.type_id and t.root = s.record_key),
     held as materialized (
       select distinct s.type_id, s.field_id, t.key, v.value
         from seed s join thread t on t.type_id = s.type_id and t.root = s.record_key
        cross join lateral (values (s.before), (s.after)) v(value) where v.value is not null)
     select null::bigint as id, type_id, field_id, key from place
     union all
     select p.id, c.type_id, p.field_id, c.record_key
       from (?) p join ledger.change c on c.save_id = p.id and c.captured_at = p.captured_at and c.field_id = p.field_id
      where exists (select from held h where h.type_id = c.type_id and h.field_id = c.field_id and h.key = c.record_key
                       and (h.value = c.before or h.value = c.after))
     limit ?`,
    [changesIn(db, meant, nowMs) as never, changesIn(db, scopes, nowMs) as never, mostChanges + 1],
  )
  if (rows.length > mostChanges)
    throw new Problem(
      'too-large',
      `More than ${counted(mostChanges, 'value')} would be blacked out one by one. No pack was made: black out their fields, or ask for less at once.`,
    )
  const words = blackedWhy(why)
  for (const { id, type_id, field_id, key } of rows)
    if (id === null) cells.set(cellPlace(type_id, key, field_id), words)
    else changes.set(changePlace(id, field_id), words)
  return rows.filter(({ id }) => id !== null).length
}
