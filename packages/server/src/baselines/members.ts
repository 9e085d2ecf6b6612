import { boundArray, type Database } from '../database/knex.ts'
import { movedSince } from '../standing/grid.ts'
import type { KeyHeld } from '../standing/moved.ts'

/** While saves had these numbers, from one, included, to another, not included, a key was a member's. */
export interface MemberSpan {
  member: string
  key: string
  since: string
  until: string | null
}

/** The keys that members had since a moment, where they did not keep the one that they had then. */
export function spansOfMovers(held: readonly KeyHeld[], isMember: (key: string) => boolean): MemberSpan[] {
  const touched = new Set(held.flatMap(({ was, now }) => (now === null ? [was] : [was, now])))
  return [...touched].filter(isMember).flatMap((member): MemberSpan[] => {
    const first = held.find(({ was, from }) => was === member && from === '0')
    const now = first ? first.now : member
    if (now === null) return first ? [{ member, key: member, since: '0', until: first.until }] : []
    const earlier = held.filter((one) => one.now === now)
    // Under the key it has now it is since others, who are listed, had it last.
    const others = held.filter(({ was }) => was === now)
    const since = others.reduce(
      (last, { until }) => (until !== null && BigInt(until) > BigInt(last) ? until : last),
      '0',
    )
    return [
      ...earlier.map(({ was, from, until }) => ({ member, key: was, since: from, until })),
      { member, key: now, since, until: null },
    ]
  })
}

/**
 * The members of a baseline with the keys under which their saves since are found, as one relation
 * `span(member, key, since, until)`, and its bindings.
 */
export async function memberSpans(
  db: Database,
  { id, typeId, at }: { id: number; typeId: number; at: string },
): Promise<[sql: string, bindings: (string | number | string[])[]]> {
  const held = await movedSince(db, typeId, at)
  const keys = [...new Set(held.flatMap(({ was, now }) => (now === null ? [was] : [was, now])))]
  const members = new Set(
    keys.length === 0
      ? []
      : await db('spoor.baseline_record')
          .where({ baseline_id: id })
          .whereRaw('record_key = any(?::text[])', [boundArray(keys)])
          .pluck<string[]>('record_key'),
  )
  const spans = spansOfMovers(held, (key) => members.has(key))
  return [
    `(select m.record_key as member, m.record_key as key, 0::bigint as since, null::bigint as until
        from spoor.baseline_record m where m.baseline_id = ? and m.record_key <> all(?::text[])
      union all
      select * from unnest(?::text[], ?::text[], ?::bigint[], ?::bigint[])) as span(member, key, since, until)`,
    [
      id,
      boundArray([...members]),
      boundArray(spans.map((one) => one.member)),
      boundArray(spans.map((one) => one.key)),
      boundArray(spans.map((one) => one.since)),
      boundArray(spans.map((one) => one.until)),
    ],
  ]
}
