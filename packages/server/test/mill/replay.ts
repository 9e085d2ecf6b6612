import type { World } from '../support.ts'
import type { Table } from './schema.ts'

export interface ReplayedSave {
  id: string
  at: string
  transaction: string
  table: string
  action: string
  key: string
  keyBefore: string | null
  values: Record<string, [string | null, string | null]>
}

export async function readSaves(world: World): Promise<ReplayedSave[]> {
  const { rows } = await world.db.raw<{ rows: ReplayedSave[] }>(
    `select s.id::text, s.captured_at::text as at, s.transaction_id as transaction, t.table_name as table, s.action, s.record_key as key, s.key_before as "keyBefore",
       coalesce((select json_object_agg(f.column_name, json_build_array(c.before, c.after)) from ledger.change c join spoor.field f on f.id = c.field_id where c.save_id = s.id and c.captured_at = s.captured_at), '{}') as values
      from ledger.save s join spoor.record_type t on t.id = s.type_id order by s.id`,
  )
  return rows
}

/** Whether two saves are of one statement that changed keys. */
function together(one: ReplayedSave, other: ReplayedSave): boolean {
  const move = one.keyBefore !== null && other.keyBefore !== null
  return move && one.at === other.at && one.transaction === other.transaction
}

type Row = Record<string, string | null>

/** What the ledger, played from empty, makes of a table. Records that exchange keys in one statement do so at once. */
export function replay(saves: readonly ReplayedSave[], table: Table): Row[] {
  const mine = saves.filter((save) => save.table === table.name)
  /** What was done to the record and to others of its keys, for whoever has to find out. */
  const story = ({ key, keyBefore }: ReplayedSave) => {
    const keys = new Set([key, keyBefore])
    return mine
      .filter((one) => keys.has(one.key) || (one.keyBefore !== null && keys.has(one.keyBefore)))
      .map(
        (one) =>
          `${one.id} ${one.transaction} ${one.at.slice(-15)} ${one.action} ${one.keyBefore ?? ''} ${one.key} ${JSON.stringify(one.values)}`,
      )
  }
  const state = new Map<string, Row>()
  for (let at = 0; at < mine.length;) {
    const first = mine[at]!
    let end = at + 1
    while (end < mine.length && together(first, mine[end]!)) end++
    const step = mine.slice(at, end)
    const held = step.map((save) => (save.action === 'create' ? {} : state.get(save.keyBefore ?? save.key)))
    for (const [n, save] of step.entries()) {
      const wrong = (what: string) =>
        new Error(`${what}\n${JSON.stringify(held[n])}\n${JSON.stringify(save)}\n${story(save).join('\n')}`)
      if (save.action === 'create' && state.has(save.key)) throw wrong('a record is created that is there')
      if (save.action !== 'create' && !held[n]) throw wrong('a record is not there that something was done to')
      // The sequence of after and next before joins without a break, for every field.
      if (save.action !== 'create')
        for (const [column, [before]] of Object.entries(save.values))
          if ((held[n]![column] ?? null) !== before) throw wrong(`${column} was not ${before}`)
      if (save.action !== 'create') state.delete(save.keyBefore ?? save.key)
    }
    for (const [n, save] of step.entries())
      if (save.action !== 'delete')
        state.set(save.key, {
          ...held[n],
          ...Object.fromEntries(Object.entries(save.values).map(([c, [, now]]) => [c, now])),
        })
    at = end
  }
  return [...state.values()]
}
