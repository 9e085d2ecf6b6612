import type { Alarm } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { recordEvent } from '../ledger/events.ts'
import { settleAlarm } from './alarms.ts'
import { rowOfPlace } from './mismatch.ts'

/** Somebody says what was found out about an alarm. */
export async function settle(db: Database, id: number, personId: number, why: string): Promise<Alarm> {
  return await db.transaction(async (trx) => {
    const { alarm, place } = await settleAlarm(trx, id, personId, why)
    // Who wrote a row that is not Spoor's is in the words of its alarm; the trace is not told again.
    const row = alarm.code === 'ledger-altered' && rowOfPlace(place)
    if (row) await trx('spoor.touched').where(row).delete()
    const about = alarm.code === 'ledger-altered' ? 'an alarm about the ledger' : 'an alarm'
    await recordEvent(trx, { kind: 'custody', personId, words: `settled ${about}: ${alarm.words}` })
    return alarm
  })
}
