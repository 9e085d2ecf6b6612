import type { Choice } from '@spoor/core'
import type { Knex } from 'knex'
import { Problem } from '../errors.ts'
import { itemsOfGroup, type KeptItem, type KeptTrial } from './store.ts'

/** What somebody chose: for values by their number, for groups, and for what the source refused. */
export interface RehearsalChoices {
  items?: ReadonlyMap<number, Choice>
  groups?: readonly { group: string; choice: Choice }[]
  leaveRefused?: boolean
}

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
  for (const { group, choice } of groups) {
    const ids = await itemsOfGroup(trx, correctionId, group)
    if (ids.length === 0) throw gone()
    for (const id of ids) byId.get(id)!.choice = choice
  }
  for (const [id, choice] of values) {
    const item = byId.get(id)
    if (!item) throw gone()
    item.choice = choice
  }
  if (!leaveRefused) return
  const row = await trx('spoor.correction').where({ id: correctionId }).first<{ trial: KeptTrial | null }>('trial')
  const refused = new Set((row.trial?.refused ?? []).map(({ typeId, key }) => `${typeId}/${key}`))
  for (const item of items) if (refused.has(`${item.typeId}/${item.key}`)) item.choice = 'leave'
}
