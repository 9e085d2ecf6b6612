import { counted, fieldPlan } from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { planInForce } from '../tracking/plan-store.ts'
import { isChosen, noSuch } from './store.ts'

/** Why a draft, as it is chosen for, is applied by somebody other than who drafted it, as half a sentence; null where it need not be. */
export async function whyTwo(db: Knex, correctionId: number): Promise<string | null> {
  const { rows } = await db.raw<{
    rows: { act: string; type_id: number; field_id: number; source_id: number; records: string }[]
  }>(
    `with chosen as (select i.act, i.type_id, i.field_id, i.record_key from spoor.correction_item i where i.correction_id = ? and ${isChosen})
     select c.act, c.type_id, c.field_id, (select source_id from spoor.correction where id = ?) as source_id,
            (select count(distinct (type_id, record_key)) from chosen) as records
       from chosen c group by c.act, c.type_id, c.field_id`,
    [correctionId, correctionId],
  )
  if (rows.length === 0) return null
  if (rows.some(({ act }) => act === 'recreate')) return 'it makes records anew'
  if (rows.some(({ act }) => act === 'remove')) return 'it removes records'
  const { plan } = await planInForce(db, rows[0]!.source_id)
  if (rows.some(({ type_id, field_id }) => fieldPlan(plan, type_id, field_id)?.sensitive))
    return 'it sets a sensitive field back'
  const above = plan.correctionsAbove
  if (above === undefined || Number(rows[0]!.records) <= above) return null
  return `it writes more than ${counted(above, 'record')}`
}

/** @throws Problem where it takes two, and they drafted it */
export async function demandSecondPerson(
  trx: Knex.Transaction,
  correctionId: number,
  person: Pick<SignedIn, 'id'>,
): Promise<void> {
  const row = await trx('spoor.correction').where({ id: correctionId }).first<{ drafted_by: number }>('drafted_by')
  if (row.drafted_by !== person.id) return
  const why = await whyTwo(trx, correctionId)
  if (why !== null)
    throw new Problem(
      'second-person',
      `It takes somebody other than who drafted it, since ${why}. Nothing was written and the draft stands; ask for a second person.`,
    )
}

const nothingSaid = {
  proposed_by: null,
  proposed_at: null,
  proposed_reason: null,
  sent_back_by: null,
  sent_back_words: null,
}

/** What is chosen otherwise is no longer what was proposed. */
export async function withdraw(trx: Knex.Transaction, correctionId: number): Promise<void> {
  await trx('spoor.correction').where({ id: correctionId }).whereNotNull('proposed_by').update(nothingSaid)
}

/** Asks a second person to apply a draft. */
export async function proposeCorrection(
  db: Database,
  correctionId: number,
  reason: string,
  person: Pick<SignedIn, 'id'>,
): Promise<void> {
  await db.transaction(async (trx) => {
    await openDraft(trx, correctionId)
    await trx('spoor.correction')
      .where({ id: correctionId })
      .update({ ...nothingSaid, proposed_by: person.id, proposed_at: trx.fn.now(), proposed_reason: reason })
    await noteEvent(trx, person, `asked for a second person to apply correction ${correctionId}`)
  })
}

/** Gives a proposed draft back with words; it stays as it is. */
export async function sendCorrectionBack(
  db: Database,
  correctionId: number,
  words: string,
  person: Pick<SignedIn, 'id'>,
): Promise<void> {
  await db.transaction(async (trx) => {
    const { proposed_by: by } = await openDraft(trx, correctionId)
    if (by === null) throw new Problem('second-person', 'Nobody asked for it to be applied, so it cannot be sent back.')
    await trx('spoor.correction')
      .where({ id: correctionId })
      .update({ ...nothingSaid, sent_back_by: person.id, sent_back_words: words })
    await noteEvent(trx, person, `sent correction ${correctionId} back`)
  })
}

const noteEvent = (trx: Knex.Transaction, person: Pick<SignedIn, 'id'>, words: string) =>
  recordEvent(trx, { kind: 'correction', personId: person.id, words })

async function openDraft(trx: Knex.Transaction, correctionId: number): Promise<{ proposed_by: number | null }> {
  const row = await trx('spoor.correction')
    .where({ id: correctionId })
    .forUpdate()
    .first<{ state: string; proposed_by: number | null } | undefined>('state', 'proposed_by')
  if (!row) throw noSuch(correctionId)
  if (row.state !== 'draft')
    throw new Problem('correction-closed', 'It is no draft any more: it was applied, or is being applied.')
  return row
}
