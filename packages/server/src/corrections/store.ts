import type { Correction, CorrectionHead, CorrectionItem } from '@spoor/contract'
import type { BlockReason } from '@spoor/core'
import type { Knex } from 'knex'
import { maskedFields } from '../ledger/masked.ts'
import { Problem } from '../errors.ts'

const whyBlocked: Readonly<Record<BlockReason, string>> = {
  'record-gone': 'the record is not in the source any more',
  'field-gone': 'the field is not in the source any more',
  'field-generated': 'the source works this field out itself',
  'not-allowed': 'Spoor may not write this field',
  'no-value-kept': 'only a fingerprint of this field is kept, not its value',
}

export function blockedWords(why: BlockReason): string {
  return whyBlocked[why]
}

interface HeadRow {
  id: number
  state: CorrectionHead['state']
  drafted_by_name: string
  drafted_at: string
  applied_by_name: string | null
  applied_at: string | null
  reason: string | null
  trial: Correction['trial']
  item_count: string
  record_count: string
}

function heads(db: Knex) {
  return db('spoor.correction as c')
    .join('spoor.person as d', 'd.id', 'c.drafted_by')
    .leftJoin('spoor.person as a', 'a.id', 'c.applied_by')
    .select('c.*', 'd.name as drafted_by_name', 'a.name as applied_by_name')
    .select(db.raw('(select count(*) from spoor.correction_item i where i.correction_id = c.id) as item_count'))
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
export type KeptItem = Omit<CorrectionItem, 'masked'>

export async function readItems(db: Knex, correctionId: number): Promise<KeptItem[]> {
  return (await db('spoor.correction_item')
    .where({ correction_id: correctionId })
    .orderBy('id')
    .select('id', 'type_id as typeId', 'record_key as key', 'label', 'field_id as fieldId', 'save_id as saveId')
    .select('found', 'now', 'target', 'state', 'why', 'choice', 'written')) as KeptItem[]
}

export async function readCorrection(db: Knex, correctionId: number): Promise<Correction> {
  const row = (await heads(db).where('c.id', correctionId).first()) as HeadRow | undefined
  if (!row) throw new Problem('not-found', `There is no correction ${correctionId}.`)
  const saves = await db('ledger.save')
    .where({ correction_id: correctionId })
    .orderBy('id')
    .select<{ id: string }[]>('id')
  const masked = await maskedFields(db)
  const erased = new Set(
    await db('spoor.correction_item').where({ correction_id: correctionId, erased: true }).pluck<number[]>('id'),
  )
  const hidden = { found: null, now: null, target: null, masked: true }
  return {
    ...headShown(row),
    items: (await readItems(db, correctionId)).map((item) => ({
      ...item,
      ...(masked.has(item.fieldId) || erased.has(item.id) ? hidden : { masked: false }),
    })),
    trial: row.trial && {
      ...row.trial,
      refused: row.trial.refused ?? [],
      effects: row.trial.effects.filter((effect) => !masked.has(effect.fieldId)),
    },
    savedAs: saves.map((save) => save.id),
  }
}
