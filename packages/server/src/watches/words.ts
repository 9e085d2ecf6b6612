import { counted, listed } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import type { FiringRow, WatchRow } from './store.ts'

const mostNamed = 3

/** How the bucket of what did not happen begins. */
export const trialMark = 'trial:'
/** How the bucket of what Today shows begins, before its day. */
export const digestMark = 'digest:'

/**
 * What a firing is about, without any value: "contractor Brackwell Heating: bank account, by Oona Marchetti"; "412 saves of
 * tenancies, by I. Coombe"; "none by 06:00 on 2026-03-20".
 */
export async function firingWords(
  db: Database,
  watches: readonly Pick<WatchRow, 'id' | 'fires'>[],
  firings: readonly Pick<FiringRow, 'id' | 'watch_id' | 'bucket' | 'saves' | 'save_ids' | 'said' | 'usual'>[],
): Promise<Map<string, string>> {
  const ids = firings.flatMap((one) => one.save_ids)
  const { rows } = await db.raw<{
    rows: { id: string; label: string; name: string; plural: string; actor: string; action: string; fields: string[] }[]
  }>(
    `select s.id::text, s.label, t.name, t.plural, coalesce(k.name, a.name) as actor, s.action,
            array(select distinct f.name from ledger.change c join spoor.field f on f.id = c.field_id
                   where c.save_id = s.id and c.captured_at = s.captured_at order by 1) as fields
       from ledger.save s join spoor.record_type t on t.id = s.type_id
       join spoor.actor a on a.id = s.actor_id left join spoor.actor k on k.id = a.same_as
      where s.id = any(?::bigint[])`,
    [boundArray(ids)],
  )
  const saves = new Map(rows.map((row) => [row.id, row]))
  return new Map(
    firings.map((one) => {
      if (one.bucket.startsWith(trialMark)) return [one.id, 'a trial: nothing happened']
      if (one.said.length > 0) return [one.id, one.said[0]!.words]
      if (one.bucket.startsWith('missing:')) {
        const fires = watches.find((watch) => watch.id === one.watch_id)?.fires
        const by = fires?.fires === 'missing' ? fires.by : 'then'
        return [one.id, `none by ${by} on ${one.bucket.slice('missing:'.length)}`]
      }
      const own = one.save_ids.flatMap((id) => saves.get(id) ?? [])
      const actors = some([...new Set(own.map((save) => save.actor))])
      const [first] = own
      if (one.saves === 1 && first) {
        const what = { create: 'created', delete: 'deleted', change: some(first.fields) }[first.action] ?? ''
        return [one.id, `${first.name} ${first.label}: ${what}, by ${actors}`]
      }
      const types = some([...new Set(own.map((save) => save.plural))])
      // Only the first of them are looked at; a run is one actor's.
      const more = one.saves > own.length && !one.bucket.startsWith('run:') ? ' among others' : ''
      const usual = one.usual === null ? '' : `, where about ${Math.round(Number(one.usual))} in a day are usual`
      return [one.id, `${counted(one.saves, 'save')} of ${types}, by ${actors}${more}${usual}`]
    }),
  )
}

const some = (names: readonly string[]) =>
  names.length <= mostNamed
    ? listed(names)
    : `${listed(names.slice(0, mostNamed - 1))} and ${names.length - mostNamed + 1} more`
