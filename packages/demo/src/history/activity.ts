import { addDays } from '@spoor/core'
import type { Database } from '@spoor/server'
import { at } from '../larkmere/calendar.ts'
import type { HistoryRow } from './recorder.ts'

const days = 28

/** Rows a working day that Larkmere writes without tracking them: by table, and in which fields where it is known. */
export const untrackedWrites: Readonly<Record<string, { perDay: number; fields: readonly string[] }>> = {
  'safety.hazard': { perDay: 118, fields: [] },
  'lettings."ViewingBooking"': { perDay: 22, fields: [] },
  'lettings.home': { perDay: 41, fields: ['last_seen_by'] },
  'repairs.repair_order': { perDay: 17, fields: ['access_notes'] },
}

interface Counters {
  created: number
  changed: number
  deleted: number
}

/**
 * Readings of the source's own counters over the last four weeks, as Spoor would have taken them: what the history
 * did, and what goes on in Larkmere beside it. The last reading is what the counters say now, so that the readings to
 * come go on from it. Only this loader can write past readings.
 */
export async function loadActivity(
  business: Database,
  owner: Database,
  sourceId: number,
  trail: readonly HistoryRow[],
  until: string,
): Promise<void> {
  const day = until.slice(0, 10)
  const moments = Array.from({ length: days + 1 }, (_, n) => at(addDays(day, n - days), 0))
  const types: { id: number; schema_name: string; table_name: string; relation_id: string }[] = await owner(
    'spoor.record_type',
  )
    .where({ source_id: sourceId, present: true })
    .select('id', 'schema_name', 'table_name', 'relation_id')
  const { rows: now } = await business.raw<{ rows: ({ relation: string } & Record<keyof Counters, string>)[] }>(
    `select relid::int8::text as relation, n_tup_ins::text as created, n_tup_upd::text as changed, n_tup_del::text as deleted from pg_stat_user_tables`,
  )
  const countersOf = new Map(now.map((row) => [row.relation, row]))
  const names = new Map(
    types.map((type) => [
      `${type.schema_name}.${/[A-Z]/.test(type.table_name) ? `"${type.table_name}"` : type.table_name}`,
      type,
    ]),
  )
  const rows: object[] = []
  for (const [name, type] of names) {
    const written = moments.slice(1).map((until, n) => writtenBetween(trail, name, moments[n]!, until))
    const held = countersOf.get(type.relation_id)
    let counters: Counters = {
      created: Number(held?.created ?? 0),
      changed: Number(held?.changed ?? 0),
      deleted: Number(held?.deleted ?? 0),
    }
    for (let n = days; n >= 0; n--) {
      rows.push({ type_id: type.id, at: new Date(moments[n]!).toISOString(), ...counters })
      const before = n > 0 ? written[n - 1]! : { created: 0, changed: 0, deleted: 0 }
      counters = {
        created: counters.created - before.created,
        changed: counters.changed - before.changed,
        deleted: counters.deleted - before.deleted,
      }
    }
  }
  await owner.batchInsert('spoor.activity', rows, 500)
  for (const [name, { fields }] of Object.entries(untrackedWrites))
    await owner('spoor.field')
      .where({ type_id: names.get(name)!.id })
      .whereIn('column_name', [...fields])
      .update({ unseen_at: new Date(moments.at(-1)!).toISOString() })
}

function writtenBetween(trail: readonly HistoryRow[], table: string, fromMs: number, untilMs: number): Counters {
  const counters = { created: 0, changed: 0, deleted: 0 }
  for (const row of trail) {
    if (row.table !== table || row.atMs < fromMs || row.atMs >= untilMs) continue
    counters[row.action === 'create' ? 'created' : row.action === 'delete' ? 'deleted' : 'changed']++
  }
  const weekend = [0, 6].includes(new Date(fromMs).getUTCDay())
  if (!weekend) counters.changed += untrackedWrites[table]?.perDay ?? 0
  return counters
}
