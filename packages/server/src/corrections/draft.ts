import {
  groupBy,
  itemPlace,
  itemsOfChanges,
  placeOfRecord,
  type RevertedChange,
  type RevertItem,
  type Scope,
} from '@spoor/core'
import type { routes } from '@spoor/contract'
import type * as v from 'valibot'
import { baselineRow } from '../baselines/baselines.ts'
import { memberSpans } from '../baselines/members.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { changesIn, savesIn } from '../ledger/in-scope.ts'
import { requestedScopes } from '../scope/request.ts'
import { scopeWords } from '../ledger/scope-words.ts'
import type { Sources } from '../sources/registry.ts'
import { spanBindings, spansOf, spanSql, withinSpan } from '../standing/moment.ts'
import { madeAgain } from './again.ts'
import { whatBelongs } from './belonging.ts'
import { columns, mostChanges, tooMany, type ChangeRow } from './change-rows.ts'
import { addItems } from './store.ts'
import { namesOf, wordsOfPast } from './words.ts'

export type DraftWish = v.InferOutput<(typeof routes.draftCorrection)['body']>
export type PickedChange = Extract<DraftWish, { changes: unknown }>['changes'][number]
type Past = Extract<DraftWish, { past: unknown }>['past']

/** What a wish comes to. */
interface Wished {
  rows: ChangeRow[]
  /** Saves that made or deleted their record, and of which not all was asked for. */
  leftOut: number
  asked: string | null
}

/**
 * Writes a correction down that sets changes back: those that were picked, all that a scope means, or all that came after a
 * moment, so that values are what they were then.
 * @returns its number
 * @throws Problem where there is nothing to set back, or too much
 */
export async function draftCorrection(
  { db, sources }: { db: Database; sources: Sources },
  wish: DraftWish,
  person: SignedIn,
): Promise<number> {
  const { rows: meant, leftOut, asked } = await wished(db, wish, person)
  if (meant.length > mostChanges) throw tooMany()
  if (meant.length === 0)
    throw new Problem(
      'nothing-to-revert',
      leftOut > 0
        ? 'It only made and deleted records, and of none of those all was asked for. Nothing was drafted; ask for the whole saves.'
        : 'None of it is a change that can be set back. Nothing was drafted; pick other changes.',
    )
  if (new Set(meant.map((row) => row.source_id)).size > 1)
    throw new Problem(
      'nothing-to-revert',
      'The changes come from several sources. Nothing was drafted; make one correction for each source.',
    )
  const again = 'again' in wish ? await madeAgain(db, meant, wish.again.sourceId) : null
  const rows = again?.rows ?? meant
  const asAsked = await itemsOf(db, rows, again !== null)
  const along = again ? [] : await whatBelongs(db, sources, deletionsOf(asAsked), rows)
  if (rows.length + along.length > mostChanges) throw tooMany()
  const {
    items,
    changes,
    rows: kept,
    taken,
  } = along.length === 0 ? asAsked : await itemsOf(db, [...rows, ...along].sort(inCaptureOrder), false)
  if (items.length === 0)
    throw new Problem('nothing-to-revert', 'It made its records and deleted them again. Nothing was drafted.')
  const rowsAt = groupBy(
    kept.map((row, at) => ({ row, place: itemPlace(changes[at]!) })),
    ({ place }) => place,
  )
  return await db.transaction(async (trx) => {
    const [correction] = await trx('spoor.correction')
      .insert({
        source_id: rows[0]!.source_id,
        state: 'draft',
        drafted_by: person.id,
        asked: asked === null ? null : `${asked}${again?.without ?? ''}`,
        repeats: again?.from ?? null,
        left_out: leftOut + taken,
        along: new Set(along.map((row) => `${row.type_id}/${row.record_key}`)).size,
      })
      .returning<{ id: number }[]>('id')
    const correctionId = correction!.id
    const added = await addItems(
      trx,
      correctionId,
      items.map((item) => {
        const { row } = rowsAt.get(itemPlace(item))!.at(-1)!
        return { ...item, label: row.label, saveId: row.save_id, erased: row.erased }
      }),
    )
    // What is made again elsewhere is not set back where it was made.
    if (again) return correctionId
    const links = added.flatMap((item) =>
      rowsAt.get(itemPlace(item))!.map(({ row }) => ({ save: row.save_id, field: row.field_id, item: item.id })),
    )
    await trx.raw(
      `insert into spoor.correction_change (correction_id, save_id, field_id, item_id)
       select ?, * from unnest(?::bigint[], ?::int[], ?::int[])`,
      [
        correctionId,
        boundArray(links.map(({ save }) => save)),
        boundArray(links.map(({ field }) => field)),
        boundArray(links.map(({ item }) => item)),
      ],
    )
    return correctionId
  })
}

interface Folded {
  items: RevertItem[]
  /** What the items were made of, and the rows that they are. */
  changes: RevertedChange[]
  rows: ChangeRow[]
  /** Saves that made or deleted records whose key is another's by now. */
  taken: number
}

/** The deletions of records that are to come back. */
function deletionsOf({ items, changes, rows }: Folded): ChangeRow[] {
  const anew = new Set(items.filter(({ act }) => act === 'recreate').map(placeOfRecord))
  return rows.filter((row, at) => row.action === 'delete' && anew.has(placeOfRecord(changes[at]!)))
}

/** @param elsewhere whether they are another source's than the one that they are written to, so that keys are as they were */
async function itemsOf(db: Database, rows: readonly ChangeRow[], elsewhere: boolean): Promise<Folded> {
  const present = elsewhere ? rows.map((row) => ({ key: row.record_key, since: 0n })) : await presentKeys(db, rows)
  const all = rows.map((row, at) => ({
    row,
    ...present[at]!,
    change: {
      typeId: row.type_id,
      key: present[at]!.key,
      fieldId: row.field_id,
      found: row.after,
      target: row.before,
      action: row.action,
    } satisfies RevertedChange,
  }))
  const taken = new Set(
    elsewhere ? [] : [...groupBy(all, ({ change }) => placeOfRecord(change)).values()].flatMap(ofTaken),
  )
  const kept = all.filter((one) => !taken.has(one))
  const changes = kept.map(({ change }) => change)
  return {
    items: itemsOfChanges(changes),
    changes,
    rows: kept.map(({ row }) => row),
    taken: new Set([...taken].flatMap(({ row }) => (row.action === 'change' ? [] : [row.save_id]))).size,
  }
}

/**
 * Of changes of one key in capture order those of a deleted record whose key another has got since, by a change of its own key:
 * there is no place for the deleted one to come back to. What was made anew under the key stands for both.
 */
function ofTaken<One extends { row: ChangeRow; since: bigint }>(changes: readonly One[]): One[] {
  const deletion = changes.findLast(({ row }) => row.action === 'delete')
  if (!deletion) return []
  const until = BigInt(deletion.row.save_id)
  const isLater = ({ row, since }: One) => since > until || BigInt(row.save_id) > until
  const next = changes.find(isLater)
  return next && next.row.action !== 'create' ? changes.filter((one) => !isLater(one)) : []
}

const inCaptureOrder = (a: ChangeRow, b: ChangeRow) =>
  a.captured_at < b.captured_at ? -1 : a.captured_at > b.captured_at ? 1 : Number(BigInt(a.save_id) - BigInt(b.save_id))

async function wished(db: Database, wish: DraftWish, person: SignedIn): Promise<Wished> {
  if ('changes' in wish) return { ...(await pickedRows(db, wish.changes)), asked: null }
  if ('past' in wish) return await sinceMoment(db, wish.past)
  if ('baselineId' in wish) return await sinceBaseline(db, wish.baselineId)
  const scope = 'again' in wish ? wish.again.scope : wish.scope
  return await inScopes(db, await requestedScopes(db, scope, person), await scopeWords(db, scope))
}

/** Of what was erased no value is left to be set; a record whose value it was can come back without it. */
const isLeft = `(s.action <> 'change' or not c.erased)`
const inOrder = `order by captured_at, save_id, field_id limit ${mostChanges + 1}`

async function inScopes(db: Database, scopes: readonly Scope[], asked: string): Promise<Wished> {
  const nowMs = Date.now()
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select ${columns} from ? as picked
       join ledger.change c on c.save_id = picked.id and c.captured_at = picked.captured_at and c.field_id = picked.field_id
       join ledger.save s on s.id = c.save_id and s.captured_at = c.captured_at
      where ${isLeft} ${inOrder}`,
    [changesIn(db, scopes, nowMs)],
  )
  const whole = await wholeSaves(db, rows)
  const [saves] = savesIn(db, scopes, nowMs)
  const { rows: others } = await db.raw<{ rows: { count: string }[] }>(
    `select count(*) from ? as picked join ledger.save s on s.id = picked.id and s.captured_at = picked.captured_at where s.action <> 'change'`,
    [saves],
  )
  return { rows: rows.filter(isIn(whole)), leftOut: Number(others[0]!.count) - whole.size, asked }
}

/** A record is not taken back, or brought back, for a part of what made or deleted it. */
const isIn = (whole: ReadonlySet<string>) => (row: ChangeRow) => row.action === 'change' || whole.has(row.save_id)

/** The saves that made or deleted a record and of which every change is among some. */
async function wholeSaves(db: Database, rows: readonly ChangeRow[]): Promise<Set<string>> {
  const picked = groupBy(
    rows.filter(({ action }) => action !== 'change'),
    (row) => row.save_id,
  )
  if (picked.size === 0) return new Set()
  const { rows: whole } = await db.raw<{ rows: { save_id: string; count: string }[] }>(
    `select c.save_id, count(*) from unnest(?::bigint[], ?::timestamptz[]) as w(save_id, captured_at)
       join ledger.change c on c.save_id = w.save_id and c.captured_at = w.captured_at group by 1`,
    [boundArray([...picked.keys()]), boundArray([...picked.values()].map((of) => of[0]!.captured_at))],
  )
  return new Set(
    whole.filter(({ save_id, count }) => picked.get(save_id)!.length === Number(count)).map((row) => row.save_id),
  )
}

/**
 * What changed after a moment, through the keys that records had. Of a record that was made since there is nothing to go back
 * to, and it is left out, unless records are wanted whole, as they stood then.
 */
async function sinceMoment(db: Database, { typeId, at, fieldIds, whole, keys }: Past): Promise<Wished> {
  const names = await namesOf(db, typeId, fieldIds)
  const asked = wordsOfPast(names, at, { records: keys?.length ?? null, whole })
  const of = { typeId, at, fieldIds, whole }
  if (!keys) return { ...(await since(db, of, 'ledger.save s', [])), asked }
  const spans = spanBindings(keys, await spansOf(db, typeId, keys))
  return { ...(await since(db, of, `${spanSql} join ledger.save s on ${withinSpan('s', 'id')}`, spans)), asked }
}

async function sinceBaseline(db: Database, id: number): Promise<Wished> {
  const { name, type_id: typeId, at, field_ids: fieldIds } = await baselineRow(db, id)
  const [spans, bound] = await memberSpans(db, { id, typeId, at })
  const from = `${spans} join ledger.save s on ${withinSpan('s', 'id')}`
  return {
    ...(await since(db, { typeId, at, fieldIds, whole: false }, from, bound)),
    asked: `Back to the baseline “${name}”.`,
  }
}

/** @param from a relation of saves `s` */
async function since(
  db: Database,
  { typeId, at, fieldIds, whole }: Pick<Past, 'typeId' | 'at' | 'fieldIds' | 'whole'>,
  from: string,
  bound: readonly (string | number | string[])[],
): Promise<Omit<Wished, 'asked'>> {
  if (whole) {
    const { rows } = await db.raw<{ rows: ChangeRow[] }>(
      `select ${columns} from ${from} join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at
        where s.type_id = ? and s.captured_at > ?::timestamptz and ${isLeft} ${inOrder}`,
      [...bound, typeId, at],
    )
    return { rows, leftOut: 0 }
  }
  const made = `exists (select from ledger.save m where m.type_id = s.type_id and m.record_key = s.record_key
    and m.action = 'create' and m.captured_at > ?::timestamptz and m.id <= s.id)`
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select ${columns} from ${from}
       join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at and c.field_id = any(?::int[])
      where s.type_id = ? and s.captured_at > ?::timestamptz and s.action = 'change' and ${isLeft} and not ${made} ${inOrder}`,
    [...bound, boundArray(fieldIds), typeId, at, at],
  )
  const { rows: others } = await db.raw<{ rows: { count: string }[] }>(
    `select count(*) from ${from} where s.type_id = ? and s.captured_at > ?::timestamptz and s.action <> 'change'`,
    [...bound, typeId, at],
  )
  return { rows, leftOut: Number(others[0]!.count) }
}

interface PresentKey {
  key: string
  /** The save that gave it; nought where it is the one it had at the change. */
  since: bigint
}

/** The key that each row's record has now: the one it had then, or the last that a later save gave it. */
async function presentKeys(db: Database, rows: readonly ChangeRow[]): Promise<PresentKey[]> {
  // Few records ever get another key; those are followed save by save.
  const places = new Map(rows.map((row) => [`${row.type_id}/${row.record_key}`, row]))
  const { rows: left } = await db.raw<{ rows: { type_id: number; record_key: string }[] }>(
    `select w.* from unnest(?::int[], ?::text[]) as w(type_id, record_key)
      where exists (select from ledger.save s where s.type_id = w.type_id and s.key_before = w.record_key)`,
    [
      boundArray([...places.values()].map((row) => row.type_id)),
      boundArray([...places.values()].map((row) => row.record_key)),
    ],
  )
  const keys = rows.map((row): PresentKey => ({ key: row.record_key, since: 0n }))
  const movers = new Set(left.map((row) => `${row.type_id}/${row.record_key}`))
  const followed = rows.flatMap((row, at) =>
    // A deleted record gets no other key.
    row.action !== 'delete' && movers.has(`${row.type_id}/${row.record_key}`) ? [at] : [],
  )
  if (followed.length === 0) return keys
  const { rows: moved } = await db.raw<{ rows: { place: number; record_key: string; since: string }[] }>(
    `with recursive trail as (
       select w.place, 0 as steps, w.type_id, w.record_key, w.save_id
         from unnest(?::int[], ?::text[], ?::bigint[]) with ordinality as w(type_id, record_key, save_id, place)
       union all
       select t.place, t.steps + 1, t.type_id, next.record_key, next.id
         from trail t cross join lateral (
           select s.record_key, s.id from ledger.save s
            where s.type_id = t.type_id and s.key_before = t.record_key and s.id > t.save_id
              -- What was made anew under the key is another record.
              and not exists (select from ledger.save d where d.type_id = t.type_id and d.record_key = t.record_key
                               and d.action = 'delete' and d.id > t.save_id and d.id < s.id)
            order by s.id limit 1) as next)
     select distinct on (place) place::int, record_key, case when steps > 0 then save_id else 0 end as since
       from trail order by place, steps desc`,
    [
      boundArray(followed.map((at) => rows[at]!.type_id)),
      boundArray(followed.map((at) => rows[at]!.record_key)),
      boundArray(followed.map((at) => rows[at]!.save_id)),
    ],
  )
  for (const { place, record_key: key, since } of moved) keys[followed[place - 1]!] = { key, since: BigInt(since) }
  return keys
}

async function pickedRows(db: Database, picked: readonly PickedChange[]): Promise<Omit<Wished, 'asked'>> {
  const { rows } = await db.raw<{ rows: ChangeRow[] }>(
    `select distinct ${columns}
       from unnest(?::bigint[], ?::int[]) as picked(save_id, field_id)
       join ledger.save s on s.id = picked.save_id
       join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at and (picked.field_id is null or c.field_id = picked.field_id)
      where ${isLeft} ${inOrder}`,
    [boundArray(picked.map((one) => one.saveId)), boundArray(picked.map((one) => one.fieldId ?? null))],
  )
  const whole = await wholeSaves(db, rows)
  const all = new Set(rows.flatMap((row) => (row.action === 'change' ? [] : [row.save_id])))
  return { rows: rows.filter(isIn(whole)), leftOut: all.size - whole.size }
}
