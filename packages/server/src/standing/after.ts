import { compareInstants, isOfFound, type ComesAfter, type Standings } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import type { TypedSave } from './saves.ts'

/** A look at the source: transactions before `xmin` were over, those from `xmax` on had not begun. */
interface Look {
  at: string
  xmax: bigint
  underWay: ReadonlySet<string>
}

/** Between the snapshot and the look at the clock; longer than a transaction goes on. As `found/read.ts` has it. */
const clockMs = 1000
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
  const { rows } = await db.raw<{ rows: { by: string; at: string; snapshot: string }[] }>(
    `select f.taking_id || ':' || f.place as by, f.at, f.snapshot
       from unnest(?::int[], ?::bigint[]) as w(taking_id, place) join ledger.found f on f.taking_id = w.taking_id and f.place = w.place`,
    [boundArray(places.map(([taking]) => taking)), boundArray(places.map(([, place]) => place))],
  )
  const looks = new Map<string, Look>()
  for (const { by, at, snapshot } of rows) {
    const [, xmax, list = ''] = snapshot.split(':')
    looks.set(by, { at, xmax: BigInt(xmax!), underWay: new Set(list === '' ? [] : list.split(',')) })
  }
  return (save, by) => {
    const look = looks.get(by)
    if (!look) return false
    // Of a source that counts its transactions otherwise no finding has such a snapshot.
    if (!/^\d+$/.test(save.transaction)) return false
    const earlierMs = Date.parse(look.at) - Date.parse(save.at)
    if (BigInt(save.transaction) >= look.xmax) return earlierMs < clockMs
    return earlierMs < longMs && look.underWay.has(save.transaction)
  }
}
