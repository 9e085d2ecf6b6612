import { compareInstants, type CoverageSpell } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'

/** A spell with why it ended. */
export interface SaidSpell extends CoverageSpell {
  because: string | null
}

/** A save that a plan's triggers captured comes so long at most before the moment that is written down for them. */
const earlyMs = 10_000

interface Captured {
  id: string
  captured_at: string
}
/** Instants: the first not included, the second is. */
export type Span = readonly [string, string]

/**
 * The spells in which a type's fields were tracked, as saves of its records bear them out: between the moment its triggers came
 * to be in force and the one that was written down as their beginning, a save may have been captured by them; then they were.
 * @param saves those of the records, or how to find those that were captured in some spans
 */
export async function coverageOf(
  db: Database,
  typeId: number,
  saves: readonly Captured[] | ((spans: readonly Span[]) => Promise<readonly Captured[]>),
): Promise<SaidSpell[]> {
  const spells = await db('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .where('f.type_id', typeId)
    .whereRaw('c.to_at is distinct from c.from_at')
    .orderBy(['f.attribute_number', 'c.from_at'])
    .select<{ field_id: number; from_at: string; to_at: string | null; ended_because: string | null }[]>(
      'c.field_id',
      'c.from_at',
      'c.to_at',
      'c.ended_because',
    )
  const begun = [...new Set(spells.map((spell) => spell.from_at))]
  const early = await earliest(db, begun, saves)
  return spells.map(({ field_id, from_at, to_at, ended_because }) => ({
    fieldId: field_id,
    from: early.get(from_at) ?? from_at,
    to: to_at,
    because: ended_because,
  }))
}

/** Just before the first of the saves that the triggers of a plan captured before it is said to be in force, by that moment. */
async function earliest(
  db: Database,
  begun: readonly string[],
  saves: Parameters<typeof coverageOf>[2],
): Promise<Map<string, string>> {
  const spans = begun.map((at): Span => [new Date(Date.parse(at) - earlyMs).toISOString(), at])
  const isWithin = ({ captured_at }: Captured) =>
    spans.some(([from, at]) => compareInstants(from, captured_at) < 0 && compareInstants(captured_at, at) <= 0)
  const close = typeof saves === 'function' ? await saves(spans) : saves.filter(isWithin)
  if (close.length === 0) return new Map()
  const { rows } = await db.raw<{ rows: { put_at: string; at: string }[] }>(
    `select v.put_at, min(s.captured_at) - interval '1 microsecond' as at
       from spoor.plan_version v join ledger.save s on s.source_id = v.source_id and s.plan_version >= v.version and s.captured_at < v.put_at
      where v.put_at = any(?::timestamptz[]) and s.id = any(?::bigint[]) and s.captured_at > v.put_at - make_interval(secs => ?) group by 1`,
    [boundArray(begun), boundArray(close.map((save) => save.id)), earlyMs / 1000],
  )
  return new Map(rows.map(({ put_at, at }) => [put_at, at]))
}
