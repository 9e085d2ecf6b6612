import { GrowingRoot, fromHex, readTakingWords, toHex } from '@spoor/core'
import type { Mismatch } from '../alarms/mismatch.ts'
import { sha256 } from '../ledger/sha256.ts'
import type { Database } from '../database/knex.ts'
import { canonicalNow, foundColumns, leafOf, type FoundRow, type TakingRow } from '../ledger/found-record.ts'

const rowsAtOnce = 1000
/** So many of one taking are enough to know that it is not to be trusted. */
const mostOfATaking = 100

/** Holds what was found against its leaves, and those against the roots that events say, which are sealed (rules 15, 16). */
export async function compareFound(db: Database): Promise<Mismatch[]> {
  const said = await db('ledger.event').whereLike('words', 'took in as found %').pluck<string[]>('words')
  const bound = new Map(said.flatMap((words) => readTakingWords(words) ?? []).map((one) => [one.taking, one]))
  const takings = await db<TakingRow>('spoor.taking').orderBy('id')
  const found: Mismatch[] = []
  for (const taking of takings) {
    const one = bound.get(taking.id)
    bound.delete(taking.id)
    // One that goes on is bound when it ends; until then each record is held against its own leaf.
    if (!one && taking.state !== 'going')
      found.push({
        place: `taking ${taking.id}`,
        words: `Nothing says what taking ${taking.id} found; its event is missing.`,
      })
    found.push(...(await compareTaking(db, taking, one)))
  }
  for (const { taking, records } of bound.values())
    if (records > 0)
      found.push({ place: `taking ${taking}`, words: `What taking ${taking} found, ${records} records, is gone.` })
  const { rows: strays } = await db.raw<{ rows: { taking_id: number }[] }>(
    'select distinct f.taking_id from ledger.found f left join spoor.taking t on t.id = f.taking_id where t.id is null limit 20',
  )
  const { rows: untold } = await db.raw<{ rows: { taking_id: number; place: string; label: string }[] }>(
    `select f.taking_id, f.place, f.label from ledger.found f, jsonb_each(f.kept) k
      where k.value -> 'commitment' is not null and not exists (
        select from ledger.erased_found e where e.taking_id = f.taking_id and e.place = f.place and e.field_id = k.key::int) limit 50`,
  )
  for (const { taking_id: id, place, label } of untold)
    found.push({
      place: `found ${id}/${place} erased`,
      words: `A value that taking ${id} found of ${label} is gone without an erasure.`,
    })
  for (const { taking_id: id } of strays)
    found.push({ place: `found by ${id}`, words: `There are found values of a taking ${id} that never was.` })
  return found
}

async function compareTaking(
  db: Database,
  taking: TakingRow,
  bound: { records: number; root: string } | undefined,
): Promise<Mismatch[]> {
  const found: Mismatch[] = []
  const tell = (row: FoundRow, words: string) => {
    if (found.length < mostOfATaking)
      found.push({
        place: `found ${taking.id}/${row.place}`,
        words: `What taking ${taking.id} found of ${row.label} (key ${row.record_key}) ${words}.`,
        stored: row.leaf,
        expected: leafOf(canonicalNow(taking, row)),
      })
  }
  const grown = new GrowingRoot(sha256)
  let [place, whole] = [0, true]
  for (;;) {
    const { rows } = await db.raw<{ rows: FoundRow[] }>(
      `select ${foundColumns} from ledger.found f where f.taking_id = ? and f.place >= ? order by f.place limit ?`,
      [taking.id, place, rowsAtOnce],
    )
    for (const row of rows) {
      if (Number(row.place) !== place) whole = false
      place = Number(row.place) + 1
      if (leafOf(canonicalNow(taking, row)) !== row.leaf) tell(row, 'is not as it was found')
      grown.push(0, fromHex(row.leaf)!)
    }
    if (rows.length < rowsAtOnce) break
  }
  if (bound && (!whole || place !== bound.records || toHex(grown.root()) !== bound.root) && found.length === 0)
    found.push({
      place: `root of taking ${taking.id}`,
      words: `What taking ${taking.id} found is not what was sealed: a record was taken out, put in, or written anew with its leaf.`,
      stored: bound.root,
      expected: toHex(grown.root()),
    })
  return found
}
