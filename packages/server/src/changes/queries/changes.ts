import type { Scope } from '@spoor/core'
import type { ChangePage, ChangeSort } from '@spoor/contract'
import { reachIn } from '../../ledger/reach.ts'
import type { Database } from '../../database/knex.ts'
import { changesIn } from '../../ledger/in-scope.ts'
import { maskedFields } from '../../ledger/masked.ts'
import { referencesIn } from '../../ledger/references.ts'
import { rowsWithChanges, saveShown } from '../../ledger/saves.ts'
import { byTime, sortedChanges } from '../../ledger/sorted.ts'

export interface ChangePageRequest {
  /** `<captured_at>_<save>_<field>` of the last change already shown. */
  after: string | undefined
  limit: number
  sort: ChangeSort
  descending: boolean
  nowMs: number
}

const listValueLength = 300

/** One page of the changes that all scopes mean, by keyset. */
export async function changePage(
  db: Database,
  scopes: readonly Scope[],
  { after, limit, sort, descending, nowMs }: ChangePageRequest,
): Promise<ChangePage> {
  const query = changesIn(db, scopes, nowMs)
  const request = { after, limit, descending }
  const { rows: page, next } =
    sort === 'time'
      ? await byTime(query, { save_id: 'bigint', field_id: 'int' }, request)
      : await sortedChanges(db, query, sort, { ...request, masked: await maskedFields(db) })
  const unique = [...new Map(page.map((row) => [row.id, { captured_at: row.captured_at, id: row.id }])).values()]
  const [rows, changes] = await rowsWithChanges(db, unique, { valueLength: listValueLength, scopes, nowMs })
  const saves = new Map(rows.map((row) => [row.id, saveShown(row, [], reachIn(scopes))]))
  return {
    references: await referencesIn(db, scopes, [...changes.values()].flat()),
    lines: page.flatMap(({ id, field_id }) => {
      const save = saves.get(id)
      const change = changes.get(id)?.find((one) => one.fieldId === field_id)
      if (!save || !change) return []
      const { at, typeId, key, label, action, actor, onBehalfOf, channel, reason } = save
      return [{ saveId: id, at, typeId, key, label, action, actor, onBehalfOf, channel, reason, change }]
    }),
    next,
  }
}
