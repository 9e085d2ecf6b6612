import type { Holidays } from '@spoor/contract'
import { counted } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import { recordEvent } from '../ledger/events.ts'

const name = 'holidays'

export async function readHolidays(db: Database): Promise<Holidays> {
  const row = await db('spoor.setting').where({ name }).first<{ value: Holidays } | undefined>('value')
  return row?.value ?? []
}

/** Their days alone. */
export const holidaySet = async (db: Database): Promise<ReadonlySet<string>> =>
  new Set((await readHolidays(db)).map(({ day }) => day))

/** Keeps some days and no others, each once. */
export async function keepHolidays(db: Database, personId: number, holidays: Holidays): Promise<Holidays> {
  const byDay = new Map(holidays.map((one) => [one.day, one]))
  const kept = [...byDay.values()].sort((a, b) => (a.day < b.day ? -1 : 1))
  await db.transaction(async (trx) => {
    await trx('spoor.setting')
      .insert({ name, value: JSON.stringify(kept) })
      .onConflict('name')
      .merge()
    await recordEvent(trx, { kind: 'watch', personId, words: `kept ${counted(kept.length, 'day')} as holidays` })
  })
  return kept
}
