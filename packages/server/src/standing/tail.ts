import { stand, type Standings } from '@spoor/core'
import type { Knex } from 'knex'
import { comingAfter } from './after.ts'
import { standingAt } from './kept.ts'
import { lastSave } from '../ledger/head.ts'
import { readSaves } from './saves.ts'

/** So many saves are put upon what is kept while somebody waits. */
export const mostBehind = 30_000

export async function savesBehind(trx: Knex.Transaction): Promise<number> {
  const { read_save } = await trx('spoor.standing_read').first<{ read_save: string }>('read_save')
  return Number(BigInt(await lastSave(trx)) - BigInt(read_save))
}

export interface Tail {
  /** Keys of which what is kept is not the latest. */
  keys: readonly string[]
  records: Standings
}

/** What was saved since the follower read on, put upon what it keeps. */
export async function tailOf(trx: Knex.Transaction, typeId: number): Promise<Tail> {
  const { read_save } = await trx('spoor.standing_read').first<{ read_save: string }>('read_save')
  const saves = await readSaves(trx, 's.type_id = ? and s.id > ?', [typeId, read_save], mostBehind)
  const keys = [...new Set(saves.flatMap(({ key, keyBefore }) => (keyBefore === null ? [key] : [key, keyBefore])))]
  const records = await standingAt(trx, typeId, keys)
  stand(records, saves, await comingAfter(trx, records, saves))
  return { keys, records }
}
