import type { Change, Reference } from '@spoor/contract'
import { keyOfOne, recordPlace, type Scope } from '@spoor/core'
import { isLimited, reachIn } from './reach.ts'
import type { Database } from '../database/knex.ts'
import { calledNow, type RecordAt } from './called.ts'

type Pointing = Pick<Change, 'fieldId' | 'before' | 'after'>

/** What the records are called that the changes' reference fields point to, where they were met, found or asked for. */
export async function referencesOf(db: Database, changes: readonly Pointing[]): Promise<Reference[]> {
  const pointing = await db('spoor.field')
    .whereNotNull('refers_to')
    .select<{ id: number; refers_to: number }[]>('id', 'refers_to')
  const typeOf = new Map(pointing.map((field) => [field.id, field.refers_to]))
  const wanted = new Map<string, Omit<Reference, 'label'> & RecordAt>()
  for (const { fieldId, before, after } of changes) {
    const typeId = typeOf.get(fieldId)
    if (typeId === undefined) continue
    for (const value of [before, after])
      if (value !== null) wanted.set(`${fieldId} ${value}`, { fieldId, value, typeId, key: keyOfOne(value) })
  }
  const names = await calledNow(db, [...wanted.values()])
  return [...wanted.values()].flatMap(({ fieldId, value, typeId, key }) => {
    const label = names.get(recordPlace(typeId, key))?.label
    return label === undefined || label === value ? [] : [{ fieldId, value, label }]
  })
}

/** The same for a list: whoever sees a part only is not told what records outside it are called. */
export async function referencesIn(
  db: Database,
  scopes: readonly Scope[],
  changes: readonly Pointing[],
): Promise<Reference[]> {
  return isLimited(reachIn(scopes)) ? [] : await referencesOf(db, changes)
}
