import type { CorrectionGroup, CorrectionHead, CorrectionItem, Effect, Refusal } from '@spoor/contract'
import { itemPlace, type BlockReason, type RevertItem } from '@spoor/core'
import type { Knex } from 'knex'
import { boundArray } from '../database/knex.ts'
import { maskedFields } from '../ledger/masked.ts'
import { Problem } from '../errors.ts'

const whyBlocked: Readonly<Record<BlockReason, string>> = {
  'record-gone': 'the record is not in the source any more',
  'field-gone': 'the field is not in the source any more',
  'field-derived': 'the source works this field out from others: set those back and it follows',
  'not-allowed': 'Spoor may not write this field',
  'no-value-kept': 'only a fingerprint of this field is kept, not its value',
  erased: 'its value was erased by law',
}

export function blockedWords(why: BlockReason): string {
  return whyBlocked[why]
}

/** What a trial showed, as it is kept. */
export interface KeptTrial {
  at: string
  refusal: string | null
  refused?: Refusal[]
  effects: Effect[]
  /** Whether records are removed before any is made anew: the source takes it only so. */
  removeFirst?: boolean
}

export interface HeadRow {
  id: number
  state: CorrectionHead['state']
  drafted_by_name: string
  drafted_at: string
  applied_by_name: string | null
  applied_at: string | null
  reason: string | null
  trial: KeptTrial | null
  asked: string | null
  left_out: number
  piecemeal: boolean
  attempt: { piecemeal?: boolean } | null
  rest_of: number | null
  along: number
  source_id: number
  drafted_by: number
  proposed_by: number | null
  proposed_by_name: string | null
  proposed_at: string | null
  proposed_reason: string | null
  sent_back_by_name: string | null
  sent_back_words: string | null
  handed_by_name: string | null
  repeats_name: string | null
  source_name: string
  handed_at: string | null
  item_count: string
  record_count: string
}

/** Corrections with the names of whoever had to do with them, as {@link HeadRow}. */
export function heads(db: Knex) {
  return db('spoor.correction as c')
    .join('spoor.person as d', 'd.id', 'c.drafted_by')
    .leftJoin('spoor.person as a', 'a.id', 'c.applied_by')
    .leftJoin('spoor.person as p', 'p.id', 'c.proposed_by')
    .leftJoin('spoor.person as b', 'b.id', 'c.sent_back_by')
    .leftJoin('spoor.person as h', 'h.id', 'c.handed_by')
    .join('spoor.source as o', 'o.id', 'c.source_id')
    .leftJoin('spoor.source as r', 'r.id', 'c.repeats')
    .select('c.*', 'd.name as drafted_by_name', 'a.name as applied_by_name', 'p.name as proposed_by_name')
    .select(
      'b.name as sent_back_by_name',
      'h.name as handed_by_name',
      'o.name as source_name',
      'r.name as repeats_name',
    )
    .select(
      db.raw(
        '(select count(*) from spoor.correction_item i where i.correction_id = c.id and i.state <> ?) as item_count',
        ['follows'],
      ),
    )
    .select(
      db.raw(
        '(select count(distinct (i.type_id, i.record_key)) from spoor.correction_item i where i.correction_id = c.id) as record_count',
      ),
    )
}

export function headShown(row: HeadRow): CorrectionHead {
  return {
    id: row.id,
    state: row.state,
    draftedBy: row.drafted_by_name,
    draftedAt: row.drafted_at,
    appliedBy: row.applied_by_name,
    appliedAt: row.applied_at,
    reason: row.reason,
    itemCount: Number(row.item_count),
    recordCount: Number(row.record_count),
  }
}

const mostListed = 500

export async function listCorrections(db: Knex): Promise<CorrectionHead[]> {
  const rows = (await heads(db).orderBy('c.id', 'desc').limit(mostListed)) as HeadRow[]
  return rows.map(headShown)
}

/** An item with its values as they are kept, for the work itself. */
export type KeptItem = Omit<CorrectionItem, 'masked' | 'cut' | 'foretold' | 'mayMerge'> & { erased: boolean }

const items = (db: Knex, correctionId: number) =>
  db('spoor.correction_item')
    .where({ correction_id: correctionId })
    .orderBy('id')
    .select('id', 'type_id as typeId', 'record_key as key', 'label', 'field_id as fieldId', 'save_id as saveId')
    .select('state', 'why', 'choice', 'written', 'act', 'erased', 'merged')

export async function readItems(db: Knex, correctionId: number): Promise<KeptItem[]> {
  return (await items(db, correctionId).select('found', 'now', 'target')) as KeptItem[]
}

type NewItem = RevertItem & Pick<KeptItem, 'label' | 'saveId' | 'erased'>

/** Writes items down behind those that a correction has. @returns them with their numbers */
export async function addItems<Item extends NewItem>(
  trx: Knex.Transaction,
  correctionId: number,
  items: readonly Item[],
): Promise<(Item & { id: number })[]> {
  const { rows } = await trx.raw<{ rows: { id: number }[] }>(
    `insert into spoor.correction_item (correction_id, type_id, record_key, label, field_id, save_id, found, target, act, erased, state)
     select ?, w.type_id, w.key, w.label, w.field_id, w.save_id, w.found, w.target, w.act, w.erased, 'clear'
       from unnest(?::int[], ?::text[], ?::text[], ?::int[], ?::bigint[], ?::text[], ?::text[], ?::text[], ?::boolean[])
            with ordinality as w(type_id, key, label, field_id, save_id, found, target, act, erased, place) order by w.place returning id`,
    [
      correctionId,
      boundArray(items.map((item) => item.typeId)),
      boundArray(items.map((item) => item.key)),
      boundArray(items.map((item) => item.label)),
      boundArray(items.map((item) => item.fieldId)),
      boundArray(items.map((item) => item.saveId)),
      boundArray(items.map((item) => item.found)),
      boundArray(items.map((item) => item.target)),
      boundArray(items.map((item) => item.act)),
      boundArray(items.map((item) => item.erased)),
    ],
  )
  const ids = rows.map((row) => row.id).sort((a, b) => a - b)
  return items.map((item, at) => ({ ...item, id: ids[at]! }))
}

/** Longer values are shown cut; the save has them whole. */
export const shownLength = 300
const itemsAtOnce = 200

/** What an item has in common with others of its group: a text, the same for all of them. */
const groupOf = `md5(jsonb_build_array(i.act, i.state, i.why, coalesce(k.id, a.id), left(s.reason, 300))::text)`
const grouping = `spoor.correction_item i
  left join ledger.save s on s.id = i.since_save
  left join spoor.actor a on a.id = s.actor_id left join spoor.actor k on k.id = a.same_as`
/** Whether an item is to be written. A record goes only where nothing of it is to be kept. */
export const isChosen = `((i.state = 'clear' and i.choice <> 'leave' or i.state = 'changed-since' and i.choice in ('overwrite', 'merge'))
  and (i.act <> 'remove' or not exists (select from spoor.correction_item x
    where x.correction_id = i.correction_id and x.type_id = i.type_id and x.record_key = i.record_key
      and (x.state = 'clear' and x.choice = 'leave' or x.state = 'changed-since' and x.choice <> 'overwrite'))))`
/** What an item is to become, as it is chosen. */
export const wantedValue = `case when i.choice = 'merge' then i.merged else i.target end`

/** The values of a correction by what they have in common; those that somebody has to decide on come first. */
export async function groupsOf(db: Knex, correctionId: number): Promise<CorrectionGroup[]> {
  const { rows } = await db.raw<{
    rows: (Omit<CorrectionGroup, 'since'> & { by: string | null; reason: string | null })[]
  }>(
    `select ${groupOf} as id, i.act, i.state, i.why, min(coalesce(k.name, a.name)) as by, min(left(s.reason, 300)) as reason,
            array_agg(distinct i.field_id order by i.field_id) as "fieldIds", count(*)::int as values,
            count(distinct (i.type_id, i.record_key))::int as records, (count(*) filter (where ${isChosen}))::int as chosen,
            (count(*) filter (where i.written))::int as written, (count(*) filter (where i.merged is not null))::int as mergeable,
            (count(*) filter (where i.choice = 'merge'))::int as merges
       from ${grouping} where i.correction_id = ?
      group by 1, i.act, i.state, i.why
      order by (i.state <> 'blocked' and i.why is not null) desc, array_position(array['changed-since', 'blocked', 'clear', 'follows', 'already-so'], i.state),
               array_position(array['recreate', 'remove', 'set'], i.act), values desc, id`,
    [correctionId],
  )
  return rows.map(({ by, reason, ...group }) => ({ ...group, since: by === null ? null : { by, reason } }))
}

/** The numbers of a group's items. */
export async function itemsOfGroup(db: Knex, correctionId: number, group: string): Promise<number[]> {
  const { rows } = await db.raw<{ rows: { id: number }[] }>(
    `select i.id from ${grouping} where i.correction_id = ? and ${groupOf} = ?`,
    [correctionId, group],
  )
  return rows.map((row) => row.id)
}

/**
 * Some items of a correction, in the order in which they were drafted.
 * @param group of that group only @param after behind that item
 */
export async function listItems(
  db: Knex,
  correctionId: number,
  { group, after = 0 }: { group?: string | undefined; after?: number | undefined },
): Promise<{ items: CorrectionItem[]; next: number | null }> {
  const row = await db('spoor.correction')
    .where({ id: correctionId })
    .first<{ trial: KeptTrial | null } | undefined>('trial')
  if (!row) throw noSuch(correctionId)
  const masked = await maskedFields(db)
  const { rows } = await db.raw<{
    rows: (KeptItem & { cut: boolean | null; mayMerge: boolean })[]
  }>(
    `select i.id, i.type_id as "typeId", i.record_key as key, i.label, i.field_id as "fieldId", i.save_id as "saveId",
            i.act, i.state, i.why, i.choice, i.written, i.erased, i.merged is not null as "mayMerge",
            left(i.found, ?) as found, left(i.now, ?) as now, left(i.target, ?) as target, left(i.merged, ?) as merged,
            greatest(length(i.found), length(i.now), length(i.target), length(i.merged)) > ? as cut
       from ${grouping} where i.correction_id = ? and i.id > ? and (?::text is null or ${groupOf} = ?) order by i.id limit ?`,
    [
      shownLength,
      shownLength,
      shownLength,
      shownLength,
      shownLength,
      correctionId,
      after,
      group ?? null,
      group ?? null,
      itemsAtOnce + 1,
    ],
  )
  const page = rows.slice(0, itemsAtOnce)
  const { foretold } = page.some(({ state }) => state === 'follows')
    ? await told(db, correctionId, row.trial, masked)
    : { foretold: new Map<string, CorrectionItem['foretold']>() }
  const hidden = { found: null, now: null, target: null, merged: null, foretold: null, masked: true }
  const open = (item: Pick<KeptItem, 'typeId' | 'key' | 'fieldId'>) => ({
    foretold: foretold.get(itemPlace(item)) ?? null,
    masked: false,
  })
  return {
    items: page.map(({ erased, cut, ...item }) => ({
      ...item,
      cut: cut ?? false,
      ...(masked.has(item.fieldId) || erased ? hidden : open(item)),
    })),
    next: rows.length > itemsAtOnce ? page.at(-1)!.id : null,
  }
}

export const noSuch = (correctionId: number) => new Problem('not-found', `There is no correction ${correctionId}.`)

/** What long work on a correction is done to. */
export const subjectOf = (correctionId: number) => `correction ${correctionId}`

/** What a trial showed: of the values that follow what they become, and whatever else came about. Nothing masked is told. */
export async function told(db: Knex, correctionId: number, trial: KeptTrial | null, masked: ReadonlySet<number>) {
  const following = new Set(
    (
      await db('spoor.correction_item')
        .where({ correction_id: correctionId, state: 'follows' })
        .select<{ typeId: number; key: string; fieldId: number }[]>(
          'type_id as typeId',
          'record_key as key',
          'field_id as fieldId',
        )
    ).map(itemPlace),
  )
  const effects = (trial?.effects ?? []).filter((effect) => !masked.has(effect.fieldId))
  return {
    foretold: new Map(
      effects
        .filter((effect) => following.has(itemPlace(effect)))
        .map((effect) => [itemPlace(effect), { value: effect.after?.slice(0, shownLength) ?? null }]),
    ),
    others: effects.filter((effect) => !following.has(itemPlace(effect))),
  }
}
