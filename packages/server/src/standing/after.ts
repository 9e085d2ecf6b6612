import { compareInstants, isOfFound, type ComesAfter, type Standings } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import type { TypedSave } from './saves.ts'

/** A look at the source: of the transactions before `xmax` those were under way that it lists, of later ones none was over. */
interface Look {
  at: string
  /** What Spoor had by then was over. */
  collectedAfterMs: number
  xmax: bigint
  underWay: ReadonlySet<string>
}

/** How far the clocks of Spoor and of its database may be apart. As `found/read.ts` has it. */
const clockMs = 60_000
const longMs = 7 * 24 * 3_600_000

/** Tells for some saves whether they came after what was found of some records, by the snapshots that it was found in. */
export async function comingAfter(
  db: Database,
  records: Standings,
  saves: readonly TypedSave[],
): Promise<ComesAfter<TypedSave>> {
  const earliest = saves.reduce((least, { at }) => (compareInstants(at, least) < 0 ? at : least), saves[0]?.at ?? '')
  const doubtful = new Set(
    [...records.values()].flatMap(({ fields }) =>
      [...fields.values()].flatMap(({ at, by }) => (isOfFound(by) && compareInstants(earliest, at) < 0 ? [by] : [])),
    ),
  )
  if (doubtful.size === 0) return () => false
  const places = [...doubtful].map((by) => by.split(':') as [string, string])
  const { rows } = await db.raw<{ rows: { by: string; at: string; snapshot: string; began_at: string }[] }>(
    `select f.taking_id || ':' || f.place as by, f.at, f.snapshot, t.began_at
       from unnest(?::int[], ?::bigint[]) as w(taking_id, place) join ledger.found f on f.taking_id = w.taking_id and f.place = w.place
       join spoor.taking t on t.id = f.taking_id`,
    [boundArray(places.map(([taking]) => taking)), boundArray(places.map(([, place]) => place))],
  )
  const looks = new Map<string, Look>()
  for (const { by, at, snapshot, began_at } of rows) {
    const [, xmax, list = ''] = snapshot.split(':')
    looks.set(by, {
      at,
      collectedAfterMs: Date.parse(began_at) - clockMs,
      xmax: BigInt(xmax!),
      underWay: new Set(list === '' ? [] : list.split(',')),
    })
  }
  return (save, by) => {
    const look = looks.get(by)
    if (!look) return false
    // Of a source that counts its transactions otherwise no finding has such a snapshot.
    if (!/^\d+$/.test(save.transaction)) return false
    if (BigInt(save.transaction) >= look.xmax) return Date.parse(save.collectedAt) > look.collectedAfterMs
    return Date.parse(look.at) - Date.parse(save.at) < longMs && look.underWay.has(save.transaction)
  }
}
