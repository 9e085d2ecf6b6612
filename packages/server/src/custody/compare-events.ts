import {
  erasureList,
  erasureMark,
  setAsideWords,
  type ErasedChange,
  type ErasedFound,
  type SetAside,
} from '@spoor/core'
import type { Database } from '../database/knex.ts'
import type { Mismatch } from '../alarms/mismatch.ts'
import { sha256Hex } from '../ledger/sha256.ts'

/** Holds what no leaf covers against the events about it, which are sealed: what was erased, and what was set aside. */
export async function compareEvents(db: Database): Promise<Mismatch[]> {
  return [...(await compareErasures(db)), ...(await notMarked(db)), ...(await compareSetAside(db))]
}

/** Rule 12. */
async function compareErasures(db: Database): Promise<Mismatch[]> {
  const rows = await db('ledger.erased').select<(ErasedChange & { erasureId: number })[]>(
    'erasure_id as erasureId',
    'save_id as saveId',
    'field_id as fieldId',
    'before',
    'after',
  )
  const values = await db('ledger.erased_found').select<(ErasedFound & { erasureId: number })[]>(
    'erasure_id as erasureId',
    'taking_id as taking',
    'place',
    'field_id as fieldId',
    'value',
  )
  const events = await db('ledger.event').where({ kind: 'erasure', outcome: 'done' }).pluck<string[]>('words')
  const byErasure = new Map<number, ErasedChange[]>()
  for (const words of events) {
    const id = /\(erasure (\d+), list [0-9a-f]{64}\)$/.exec(words)?.[1]
    if (id !== undefined) byErasure.set(Number(id), [])
  }
  for (const row of rows) {
    const own = byErasure.get(row.erasureId)
    if (own) own.push(row)
    else byErasure.set(row.erasureId, [row])
  }
  for (const { erasureId } of values) if (!byErasure.has(erasureId)) byErasure.set(erasureId, [])
  return [...byErasure].flatMap(([id, changes]) => {
    const mark = erasureMark(
      id,
      erasureList(
        sha256Hex,
        changes,
        values.filter((one) => one.erasureId === id),
      ),
    )
    if (events.some((words) => words.endsWith(mark))) return []
    const first = changes[0]
    return [
      {
        place: `erasure ${id}`,
        words: `Erasure ${id} is not what was written down about it: values were taken out of the ledger that nobody decided to erase, or what is kept of them was altered.`,
        ...(first ? { saveId: first.saveId, fieldId: first.fieldId } : {}),
        expected: mark,
      },
    ]
  })
}

/** Changes that were erased and do not say so. */
async function notMarked(db: Database): Promise<Mismatch[]> {
  const { rows } = await db.raw<{ rows: { save_id: string; field_id: number }[] }>(
    `select e.save_id, e.field_id from ledger.erased e
       left join ledger.save s on s.id = e.save_id
       left join ledger.change c on c.captured_at = s.captured_at and c.save_id = e.save_id and c.field_id = e.field_id
      where c.erased is distinct from true limit 50`,
  )
  return rows.map(({ save_id, field_id }) => ({
    place: `erased ${save_id} ${field_id}`,
    words: `A change of save ${save_id} was erased, and is not marked so or is gone.`,
    saveId: save_id,
    fieldId: field_id,
  }))
}

/** Rule 13. Rows from before there were such events are under none. */
async function compareSetAside(db: Database): Promise<Mismatch[]> {
  const events = await db('ledger.event')
    .where({ kind: 'custody' })
    .whereLike('words', 'set captured row %')
    .orderBy('id')
    .select<{ at: string; words: string }[]>('at', 'words')
  if (events.length === 0) return []
  const rows = await db('ledger.set_aside').select<(SetAside & { setAsideAt: string })[]>(
    'source_id as sourceId',
    'outbox_seq as seq',
    'why',
    'content',
    'set_aside_at as setAsideAt',
  )
  const said = new Set(events.map((event) => event.words))
  const begun = Date.parse(events[0]!.at)
  const found: Mismatch[] = []
  for (const row of rows) {
    const words = setAsideWords(sha256Hex, row)
    if (said.delete(words) || Date.parse(row.setAsideAt) < begun) continue
    found.push({
      place: `set aside ${row.sourceId}/${row.seq}`,
      words: `Captured row ${row.seq}, which was set aside, is not as it was when it was set aside, or was put in.`,
    })
  }
  for (const words of said) {
    const [, seq] = /^set captured row (\d+) /.exec(words) ?? []
    found.push({
      place: `set aside ${words}`,
      words: `Captured row ${seq ?? '?'}, which was set aside, is missing or was altered.`,
    })
  }
  return found
}
