import { groupBy, placeOfRecord, type Choice } from '@spoor/core'
import type { Knex } from 'knex'
import { Problem } from '../errors.ts'
import { itemsOfGroup, type KeptItem, type KeptTrial } from './store.ts'

/** What somebody chose: for values by their number, for groups, and for what the source refused. */
export interface RehearsalChoices {
  items?: ReadonlyMap<number, Choice>
  groups?: readonly { group: string; choice: Choice }[]
  leaveRefused?: boolean
}

/** Whether anything is chosen with it. */
export const chosenAnew = ({ items, groups = [], leaveRefused = false }: RehearsalChoices) =>
  (items?.size ?? 0) > 0 || groups.length > 0 || leaveRefused

/**
 * Puts what was chosen down with each value.
 * @param items are altered
 * @throws Problem where a value or a group that is chosen for is not in the correction any more
 */
export async function choose(
  trx: Knex.Transaction,
  correctionId: number,
  items: readonly KeptItem[],
  { items: values = new Map(), groups = [], leaveRefused = false }: RehearsalChoices,
): Promise<void> {
  const byId = new Map(items.map((item) => [item.id, item]))
  const gone = () =>
    new Problem(
      'not-found',
      'A value or a group that was chosen for is not in this correction as it stands now. Nothing was changed; look at it again.',
    )
  const removed = groupBy(
    items.filter(({ act }) => act === 'remove'),
    placeOfRecord,
  )
  const take = (item: KeptItem, choice: Choice) => {
    item.choice = choice
    if (item.act !== 'remove') return
    // A record goes or stays whole; what changed of it since is chosen value by value.
    for (const other of removed.get(placeOfRecord(item))!)
      if (choice === 'leave') other.choice = 'leave'
      else if (other.choice === 'leave') other.choice = 'keep'
  }
  for (const { group, choice } of groups) {
    const ids = await itemsOfGroup(trx, correctionId, group)
    if (ids.length === 0) throw gone()
    for (const id of ids) take(byId.get(id)!, choice)
  }
  for (const [id, choice] of values) {
    const item = byId.get(id)
    if (!item) throw gone()
    take(item, choice)
  }
  if (!leaveRefused) return
  const row = await trx('spoor.correction').where({ id: correctionId }).first<{ trial: KeptTrial | null }>('trial')
  const refused = new Set((row.trial?.refused ?? []).map(placeOfRecord))
  for (const item of items) if (refused.has(placeOfRecord(item))) item.choice = 'leave'
}
