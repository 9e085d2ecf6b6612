import { rules, type Reason, type Story } from '@spoor/core'
import type { StoryShown } from '@spoor/contract'
import type { Knex } from 'knex'
import { maskedFields } from '../ledger/masked.ts'
import { rowsWithChanges } from '../ledger/saves.ts'
import { boundArray, isAfter, type Database } from '../database/knex.ts'

export interface StoryRow {
  id: number
  story: string
  reasons: Reason[]
  saves: number
  records: number
  from_at: string
  to_at: string
  found_at: string
  actors: number[]
  types: number[]
  settled_by: string | null
  settled_at: string | null
  settled_why: string | null
}

/** Writes stories that are new or have grown; one that was told before keeps its number and what people said of it. */
export async function keepStories(trx: Knex, stories: readonly Story[]): Promise<void> {
  for (const story of stories) {
    // Updated first: an insertion that meets the row there is takes a number all the same, and they would run out.
    const { rows } = await trx.raw<{ rows: { id: number }[] }>(
      `with told (story, reasons, saves, records, from_at, to_at, actors, types) as (
         values (?::text, ?::jsonb, ?::int, ?::int, ?::timestamptz, ?::timestamptz, ?::int[], ?::int[])),
       grown as (
         update spoor.story s set reasons = t.reasons, saves = t.saves, records = t.records, from_at = t.from_at, to_at = t.to_at,
                actors = t.actors, types = t.types
           from told t where s.story = t.story returning s.id),
       fresh as (
         insert into spoor.story (story, reasons, saves, records, from_at, to_at, actors, types)
         select * from told where not exists (select from grown) returning id)
       select id from grown union all select id from fresh`,
      [
        story.id,
        JSON.stringify(story.reasons),
        story.count,
        story.records,
        new Date(story.fromMs).toISOString(),
        new Date(story.toMs).toISOString(),
        boundArray(story.actors),
        boundArray(story.types),
      ],
    )
    await trx.raw(
      'insert into spoor.story_save (story_id, save_id) select ?, unnest(?::bigint[]) on conflict do nothing',
      [rows[0]!.id, boundArray(story.saves)],
    )
  }
}

export interface StoryRequest {
  /** Stories with a save from then on. */
  fromAt: string
  untilAt?: string
  settled: boolean
  limit: number
}

const columns = [
  's.id',
  's.story',
  's.reasons',
  's.saves',
  's.records',
  's.from_at',
  's.to_at',
  's.found_at',
  's.actors',
  's.types',
  's.settled_at',
  's.settled_why',
  'p.name as settled_by',
]

/** The stories of a spell, the heaviest first. */
export async function storiesOf(db: Database, { fromAt, untilAt, settled, limit }: StoryRequest): Promise<StoryRow[]> {
  const query = db('spoor.story as s')
    .leftJoin('spoor.person as p', 'p.id', 's.settled_by')
    .where('s.to_at', '>=', fromAt)
  if (untilAt !== undefined) {
    void query.where('s.from_at', '<', untilAt)
    // A story that began before and went on after may have no save in between.
    void query.where((one) =>
      one
        .where('s.from_at', '>=', fromAt)
        .orWhere('s.to_at', '<', untilAt)
        .orWhereExists((inside) =>
          inside
            .select(db.raw('1'))
            .from('spoor.story_save as t')
            .join('ledger.save as l', 'l.id', 't.save_id')
            .whereRaw('t.story_id = s.id')
            .where('l.captured_at', '>=', fromAt)
            .where('l.captured_at', '<', untilAt),
        ),
    )
  }
  if (!settled) void query.whereNull('s.settled_at')
  const rows: StoryRow[] = await query.orderBy('s.to_at', 'desc').limit(1000).select(columns)
  const weight = (row: StoryRow) => rules.find((rule) => rule.name === row.reasons[0]?.rule)?.weight ?? 0
  return rows.sort((a, b) => weight(b) - weight(a) || Date.parse(b.to_at) - Date.parse(a.to_at)).slice(0, limit)
}

export async function storiesById(db: Database, ids: readonly number[]): Promise<StoryRow[]> {
  return await db('spoor.story as s')
    .leftJoin('spoor.person as p', 'p.id', 's.settled_by')
    .whereIn('s.id', ids)
    .select<StoryRow[]>(columns)
}

const examplesShown = 3
/** Figures that would say something of a value. */
const tellingFigures = new Set(['percent', 'factor', 'limit', 'value', 'least', 'most'])

/** The same without any figure that would say something of a value. */
export const withoutValues = (story: StoryShown): StoryShown => ({
  ...story,
  reasons: story.reasons.map((reason) => ({
    ...reason,
    figures: Object.fromEntries(Object.entries(reason.figures).filter(([name]) => !tellingFigures.has(name))),
  })),
})

/** Stories as people are shown them: with the record they are about and with values, masked where they are to be. */
export async function storiesShown(db: Database, rows: readonly StoryRow[]): Promise<StoryShown[]> {
  if (rows.length === 0) return []
  const { rows: picked } = await db.raw<{ rows: { story_id: number; id: string }[] }>(
    `select wanted.id as story_id, t.save_id as id
       from unnest(?::int[]) as wanted(id)
       cross join lateral (select t.save_id from spoor.story_save t where t.story_id = wanted.id order by t.save_id limit ?) t
      order by 2`,
    [boundArray(rows.map((row) => row.id)), examplesShown],
  )
  // By number alone every month would be looked through; when the stories happened is known.
  const times = await db('ledger.save')
    .whereRaw('id = any(?::bigint[])', [boundArray(picked.map((one) => one.id))])
    .where(
      'captured_at',
      '>=',
      rows.map((row) => row.from_at).reduce((a, b) => (isAfter(a, b) ? b : a)),
    )
    // Stories keep their times to the millisecond.
    .whereRaw("captured_at < ?::timestamptz + interval '1 millisecond'", [
      rows.map((row) => row.to_at).reduce((a, b) => (isAfter(a, b) ? a : b)),
    ])
    .select<{ id: string; captured_at: string }[]>('id', 'captured_at')
  const [saves, changes] = await rowsWithChanges(db, times, { valueLength: 120, scopes: [{}], nowMs: Date.now() })
  const saveById = new Map(saves.map((save) => [save.id, save]))
  const masked = await maskedFields(db)
  return rows.map((row): StoryShown => {
    const own = picked.filter((one) => one.story_id === row.id).flatMap((one) => saveById.get(one.id) ?? [])
    const fieldId = row.reasons.find((reason) => reason.fieldId !== null)?.fieldId ?? null
    const [first] = own
    return {
      id: row.id,
      reasons: row.reasons.map((reason) => ({
        ...reason,
        figures: Object.fromEntries(
          Object.entries(reason.figures).filter(
            ([name]) => !(reason.fieldId !== null && masked.has(reason.fieldId) && tellingFigures.has(name)),
          ),
        ),
      })),
      saves: row.saves,
      records: row.records,
      from: row.from_at,
      to: row.to_at,
      actors: row.actors,
      types: row.types,
      about: first ? { typeId: first.type_id, key: first.record_key, label: first.label } : null,
      examples: own.flatMap((save) => {
        const change = (changes.get(save.id) ?? []).find((one) => fieldId === null || one.fieldId === fieldId)
        return change ? [{ saveId: save.id, at: save.captured_at, label: save.label, change }] : []
      }),
      settled:
        row.settled_at === null ? null : { by: row.settled_by ?? '', at: row.settled_at, why: row.settled_why ?? '' },
    }
  })
}
