import { commitmentsOf, erasureList, erasureMark, type ErasedChange } from '@spoor/core'
import type { Correction } from '@spoor/contract'
import type { Knex } from 'knex'
import { sha256Hex } from '../ledger/sha256.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { eraseFound } from '../found/erase.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { holdPacks, withdrawPacksOf } from '../packs/withdraw.ts'
import { forgetKept } from '../scope/reading-mark.ts'
import { forgetAnswers } from '../work/answering.ts'
import { eraseStanding, holdStanding } from '../standing/erase.ts'
import { demandSecond, demandWaiting, meant, wordsOf, type ErasureRow } from './erasure.ts'

/** Values may be large; so many changes are held at once. */
const atOnce = 200

interface ChangeRow {
  save_id: string
  captured_at: string
  before: string | null
  after: string | null
  salt: string | null
}

/**
 * Takes value and salt of every change that is meant out of the ledger, for good, in one transaction. Their commitments
 * stay, so that every save keeps its leaf. Works as the role for erasing, which the application otherwise never uses.
 * @throws Problem when it was decided already, or by the one who asked
 */
export async function carryOut(connectEraser: () => Database, person: SignedIn, id: number): Promise<void> {
  const db = connectEraser()
  try {
    await db.transaction(async (trx) => {
      const row = await demandWaiting(trx, id)
      demandSecond(row, person)
      await holdStanding(trx)
      await forgetKept(trx, row.field_id)
      await forgetAnswers(trx)
      await holdPacks(trx)
      const erased = await eraseChanges(trx, row)
      if (erased.length === 0)
        throw new Problem(
          'rule-broken',
          'There is nothing left to erase: it was erased with another wish. Refuse this one.',
        )
      const found = await eraseFound(trx, row, new Set(erased.flatMap((one) => one.values)))
      const saves = erased.map((one) => one.saveId)
      await eraseStanding(trx, row, saves, found)
      await withdrawPacksOf(trx, {
        saveIds: saves,
        personId: person.id,
        why: `values in it were erased (erasure ${id})`,
      })
      await leaveDrafts(trx, row)
      await eraseCopies(trx, row)
      await forgetNoticed(trx, row)
      await trx('spoor.erasure')
        .where({ id })
        .update({ state: 'erased', decided_by: person.id, decided_at: trx.fn.now() })
      const asker = await trx('spoor.person').where({ id: row.asked_by }).first<{ name: string }>('name')
      const mark = erasureMark(id, erasureList(sha256Hex, erased, found))
      await recordEvent(trx, {
        kind: 'erasure',
        personId: person.id,
        words: `erased ${await wordsOf(trx, row)}, as ${asker.name} asked: ${row.reason} ${mark}`,
      })
    })
  } finally {
    await db.destroy()
  }
}

/** @returns what stays of each, with the values that went */
async function eraseChanges(
  trx: Knex.Transaction,
  row: ErasureRow,
): Promise<(ErasedChange & { values: (string | null)[] })[]> {
  const erased: (ErasedChange & { values: (string | null)[] })[] = []
  for (;;) {
    const changes = (await meant(trx, row)
      .orderBy([{ column: 'c.captured_at' }, { column: 'c.save_id' }])
      .limit(atOnce)
      .select(
        'c.save_id',
        'c.captured_at',
        'c.before',
        'c.after',
        trx.raw(`encode(c.salt, 'hex') as salt`),
      )) as ChangeRow[]
    if (changes.length === 0) return erased
    const kept = changes.map(({ save_id, before, after, salt }): ErasedChange => {
      const commitments = salt === null ? { before: null, after: null } : commitmentsOf(sha256Hex, salt, before, after)
      return { saveId: save_id, fieldId: row.field_id, ...commitments }
    })
    await trx('ledger.erased').insert(
      kept.map(({ saveId, fieldId, before, after }) => ({
        save_id: saveId,
        field_id: fieldId,
        erasure_id: row.id,
        before,
        after,
      })),
    )
    await trx.raw(
      `update ledger.change c set before = null, after = null, salt = null, rise = null, rise_share = null, erased = true
         from unnest(?::timestamptz[], ?::bigint[]) as w(captured_at, id)
        where c.captured_at = w.captured_at and c.save_id = w.id and c.field_id = ?`,
      [boundArray(changes.map((one) => one.captured_at)), boundArray(changes.map((one) => one.save_id)), row.field_id],
    )
    erased.push(...kept.map((one, at) => ({ ...one, values: [changes[at]!.before, changes[at]!.after] })))
  }
}

const sameValue = ({ type_id, record_key, field_id }: ErasureRow) => ({ type_id, record_key, field_id })

/** A draft holds the value that it would write: it goes on without it, and one of nothing else is no draft. */
async function leaveDrafts(trx: Knex.Transaction, row: ErasureRow): Promise<void> {
  const items = await trx('spoor.correction_item as i')
    .join('spoor.correction as c', 'c.id', 'i.correction_id')
    .where({ 'c.state': 'draft', 'i.type_id': row.type_id, 'i.record_key': row.record_key, 'i.field_id': row.field_id })
    .select<{ id: number; correction_id: number }[]>('i.id', 'i.correction_id')
  if (items.length === 0) return
  await trx('spoor.correction_change')
    .whereIn(
      'item_id',
      items.map((item) => item.id),
    )
    .delete()
  await trx('spoor.correction_item')
    .whereIn(
      'id',
      items.map((item) => item.id),
    )
    .delete()
  await trx('spoor.correction')
    .whereIn('id', [...new Set(items.map((item) => item.correction_id))])
    .whereNotExists(trx('spoor.correction_item').whereRaw('correction_id = spoor.correction.id').select(trx.raw('1')))
    .delete()
}

/** Corrections remember what they found and wrote, and what followed from it; differences what was there. */
async function eraseCopies(trx: Knex.Transaction, row: ErasureRow): Promise<void> {
  await trx('spoor.difference').where(sameValue(row)).update({ trail: null, source: null })
  const items = trx('spoor.correction_item').where(sameValue(row))
  if (row.reach === 'change')
    void items.whereIn(
      'id',
      trx('spoor.correction_change').where({ save_id: row.save_id, field_id: row.field_id }).select('item_id'),
    )
  await items.update({ found: null, now: null, target: null, merged: null, erased: true })
  const corrections = await trx('spoor.correction')
    .whereRaw(`trial -> 'effects' @> ?::jsonb`, [
      JSON.stringify([{ typeId: row.type_id, key: row.record_key, fieldId: row.field_id }]),
    ])
    .select<{ id: number; trial: NonNullable<Correction['trial']> }[]>('id', 'trial')
  for (const { id, trial } of corrections) {
    const effects = trial.effects.filter(
      (one) => one.typeId !== row.type_id || one.key !== row.record_key || one.fieldId !== row.field_id,
    )
    await trx('spoor.correction')
      .where({ id })
      .update({ trial: JSON.stringify({ ...trial, effects }) })
  }
}

/** Noticing remembers values for so many days at the most (the longest that its settings allow). */
const rememberedDays = 60

/** What noticing remembers of it goes as well: it reads anew, and tells the same of everything else. */
async function forgetNoticed(trx: Knex.Transaction, row: ErasureRow): Promise<void> {
  const recent = await trx('ledger.erased as e')
    .join('ledger.save as s', 's.id', 'e.save_id')
    .where('e.erasure_id', row.id)
    .whereRaw('s.captured_at > now() - make_interval(days => ?)', [rememberedDays + 1])
    .first('s.id')
  if (!recent) return
  await trx('spoor.noticing').update({ state: null, until_save: 0, changed_at: trx.raw('clock_timestamp()') })
}
