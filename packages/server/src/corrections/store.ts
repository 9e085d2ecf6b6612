import type { Correction, CorrectionHead, CorrectionItem, Effect, Refusal } from '@spoor/contract'
import { itemPlace, type BlockReason } from '@spoor/core'
import type { Knex } from 'knex'
import { maskedFields } from '../ledger/masked.ts'
import { Problem } from '../errors.ts'

const whyBlocked: Readonly<Record<BlockReason, string>> = {
  'record-gone': 'the record is not in the source any more',
  'field-gone': 'the field is not in the source any more',
  'field-derived': 'the source works this field out from others: set those back and it follows',
  'not-allowed': 'Spoor may not write this field',
  'no-value-kept': 'only a fingerprint of this field is kept, not its value',
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
}

interface HeadRow {
  id: number
  state: CorrectionHead['state']
  drafted_by_name: string
  drafted_at: string
  applied_by_name: string | null
  applied_at: string | null
  reason: string | null
  trial: KeptTrial | null
  item_count: string
  record_count: string
}

function heads(db: Knex) {
  return db('spoor.correction as c')
    .join('spoor.person as d', 'd.id', 'c.drafted_by')
    .leftJoin('spoor.person as a', 'a.id', 'c.applied_by')
    .select('c.*', 'd.name as drafted_by_name', 'a.name as applied_by_name')
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

function headShown(row: HeadRow): CorrectionHead {
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
export type KeptItem = Omit<CorrectionItem, 'masked' | 'cut' | 'foretold'>

const items = (db: Knex, correctionId: number) =>
  db('spoor.correction_item')
    .where({ correction_id: correctionId })
    .orderBy('id')
    .select('id', 'type_id as typeId', 'record_key as key', 'label', 'field_id as fieldId', 'save_id as saveId')
    .select('state', 'why', 'choice', 'written')

export async function readItems(db: Knex, correctionId: number): Promise<KeptItem[]> {
  return (await items(db, correctionId).select('found', 'now', 'target')) as KeptItem[]
}

/** Longer values are shown cut; the save has them whole. */
const shownLength = 300

async function shownItems(
  db: Knex,
  correctionId: number,
): Promise<(KeptItem & { cut: boolean | null; erased: boolean })[]> {
  const sides = ['found', 'now', 'target'].map((side) => db.raw('left(??, ?) as ??', [side, shownLength, side]))
  return (await items(db, correctionId)
    .select(sides)
    .select('erased')
    .select(db.raw('greatest(length(found), length(now), length(target)) > ? as cut', [shownLength]))) as (KeptItem & {
    cut: boolean | null
    erased: boolean
  })[]
}

export async function readCorrection(db: Knex, correctionId: number): Promise<Correction> {
  const row = (await heads(db).where('c.id', correctionId).first()) as HeadRow | undefined
  if (!row) throw new Problem('not-found', `There is no correction ${correctionId}.`)
  const saves = await db('ledger.save')
    .where({ correction_id: correctionId })
    .orderBy('id')
    .select<{ id: string }[]>('id')
  const masked = await maskedFields(db)
  const shown = await shownItems(db, correctionId)
  const { foretold, others } = told(row.trial, shown, masked)
  const hidden = { found: null, now: null, target: null, foretold: null, masked: true }
  const open = (item: KeptItem) => ({ foretold: foretold.get(itemPlace(item)) ?? null, masked: false })
  return {
    ...headShown(row),
    items: shown.map(({ erased, cut, ...item }) => ({
      ...item,
      cut: cut ?? false,
      ...(masked.has(item.fieldId) || erased ? hidden : open(item)),
    })),
    trial: row.trial && {
      at: row.trial.at,
      refusal: row.trial.refusal,
      refused: row.trial.refused ?? [],
      effects: others.slice(0, mostEffects).map(({ before, after, ...effect }) => ({
        ...effect,
        before: before?.slice(0, shownLength) ?? null,
        after: after?.slice(0, shownLength) ?? null,
      })),
      effectCount: others.length,
    },
    savedAs: saves.map((save) => save.id),
  }
}

const mostEffects = 200

/** What a trial showed: of the values that follow what they become, and whatever else came about. Nothing masked is told. */
function told(trial: KeptTrial | null, items: readonly KeptItem[], masked: ReadonlySet<number>) {
  const following = new Set(items.filter((item) => item.state === 'follows').map(itemPlace))
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
