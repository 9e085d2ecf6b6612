import type { GuardLine, GuardMet, GuardOpening } from '@spoor/contract'
import { guardSentence, guardsOf, sameGuard, withEdits, type Guard, type TrackingPlan } from '@spoor/core'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { guardGround, whyNotAsked } from '../tracking/guards.ts'
import { fieldNames, planInForce, readDraft } from '../tracking/plan-store.ts'
import { openingsOf } from './openings.ts'

export interface GuardRow {
  id: number
  source_id: number
  type_id: number
}

export async function guardRow(db: Database, guardId: number): Promise<GuardRow> {
  const row = await db('spoor.guard').where({ id: guardId }).first<GuardRow | undefined>('id', 'source_id', 'type_id')
  if (!row) throw new Problem('not-found', 'There is no such guard.')
  return row
}

interface Planned {
  guard: Guard
  standing: GuardLine['standing']
}

/** The guards of a plan and its draft by their numbers. */
function plannedGuards(plan: TrackingPlan, drafted: TrackingPlan): Map<number, Planned> {
  const planned = new Map<number, Planned>()
  for (const typeId of new Set([...Object.keys(plan.types), ...Object.keys(drafted.types)].map(Number))) {
    const [now, then] = [guardsOf(plan, typeId), guardsOf(drafted, typeId)]
    for (const [guardId, guard] of then) {
      const was = now.get(guardId)
      planned.set(guardId, {
        guard,
        standing: !was ? 'draft' : sameGuard(was, guard) ? 'in force' : 'changed in the draft',
      })
    }
    for (const [guardId, guard] of now)
      if (!then.has(guardId)) planned.set(guardId, { guard, standing: 'taken away by the draft' })
  }
  return planned
}

interface Counts {
  guard_id: number
  refused: string
  certain: boolean
  told: string
  warned: string
  passed: string
  last_at: string | null
  strip: string[]
}

const yearAgo = `now() - interval '1 year'`

async function countsOf(db: Database, guardIds: readonly number[]): Promise<Map<number, Counts>> {
  const { rows } = await db.raw<{ rows: Counts[] }>(
    `select w.guard_id, coalesce(c.refused, 0) as refused, coalesce(c.certain, true) as certain,
            coalesce(m.told, 0) as told, coalesce(m.warned, 0) as warned, coalesce(m.passed, 0) as passed,
            greatest(c.last_at, m.last_at) as last_at,
            array(select min(d.at) from (select at from spoor.guard_count where guard_id = w.guard_id and at > ${yearAgo}
                    union all select at from spoor.guard_met where guard_id = w.guard_id and how <> 'refused' and at > ${yearAgo}) d
                   group by (d.at at time zone 'UTC')::date order by 1) as strip
       from unnest(?::int[]) as w(guard_id)
       left join lateral (select sum(refused) as refused, bool_and(certain) as certain, max(at) as last_at
                            from spoor.guard_count where guard_id = w.guard_id) c on true
       left join lateral (select count(*) filter (where how = 'refused') as told, count(*) filter (where how = 'warned') as warned,
                                 count(*) filter (where how = 'passed') as passed, max(at) as last_at
                            from spoor.guard_met where guard_id = w.guard_id) m on true`,
    [boundArray(guardIds)],
  )
  return new Map(rows.map((row) => [row.guard_id, row]))
}

/** Every guard that is in force or staged, by type. */
export async function listGuards(db: Database): Promise<GuardLine[]> {
  const sources = await db('spoor.source').orderBy('name').select<{ id: number; name: string }[]>('id', 'name')
  const planned = new Map<number, Planned & { source: { id: number; name: string } }>()
  for (const source of sources) {
    const { plan } = await planInForce(db, source.id)
    const draft = await readDraft(db, source.id)
    for (const [guardId, one] of plannedGuards(plan, withEdits(plan, draft.edits)))
      planned.set(guardId, { ...one, source })
  }
  const ids = [...planned.keys()]
  const types = await db('spoor.guard as g')
    .join('spoor.record_type as t', 't.id', 'g.type_id')
    .whereIn('g.id', ids)
    .orderBy(['t.plural', 'g.id'])
    .select<{ id: number; type_id: number; plural: string }[]>('g.id', 't.id as type_id', 't.plural')
  const [counts, openings] = [await countsOf(db, ids), await openingsOf(db, ids)]
  const [ground, nameOf] = [await guardGround(db), await fieldNames(db)]
  return types.map(({ id, type_id, plural }): GuardLine => {
    const { guard, standing, source } = planned.get(id)!
    const count = counts.get(id)!
    const trouble = whyNotAsked(ground, type_id, guard, nameOf)
    return {
      id,
      sourceId: source.id,
      source: source.name,
      typeId: type_id,
      plural,
      guard: guard as GuardLine['guard'],
      sentence: guardSentence(guard, plural, nameOf),
      trouble: trouble && `It ${trouble}.`,
      standing,
      refused: Number(count.refused),
      told: Number(count.told),
      uncertain: !count.certain,
      warned: Number(count.warned),
      passed: Number(count.passed),
      lastAt: count.last_at,
      strip: count.strip,
      openings: openings.get(id) ?? [],
    }
  })
}

const mostMet = 200

interface MetRow {
  id: string
  how: GuardMet['how']
  at: string
  action: string
  record_key: string
  label: string
  actor: string | null
  login: string
  reason: string | null
  save_id: string | null
  opening_id: number | null
}

/** The latest that a guard met, newest first. */
export async function readMet(db: Database, guardId: number): Promise<GuardMet[]> {
  const { source_id: sourceId } = await guardRow(db, guardId)
  const { rows } = await db.raw<{ rows: MetRow[] }>(
    `select m.id, m.how, m.at, m.action, m.record_key, m.label, m.actor, m.login, m.reason, m.opening_id,
            (select s.id from ledger.save s where s.source_id = ? and s.type_id = m.type_id and s.record_key = m.record_key
               and s.transaction_id = m.transaction_id and s.captured_at between m.at - interval '1 hour' and m.at + interval '1 hour'
              order by s.id limit 1) as save_id
       from spoor.guard_met m where m.guard_id = ? order by m.id desc limit ?`,
    [sourceId, guardId, mostMet],
  )
  return rows.map((row) => ({
    id: row.id,
    how: row.how,
    at: row.at,
    action: row.action,
    recordKey: row.record_key,
    label: row.label,
    actor: row.actor,
    login: row.login,
    reason: row.reason,
    saveId: row.save_id,
    openingId: row.opening_id,
  }))
}

/** What guards say of one save: that they only warned of it, or that it passed by one that stood open. */
export interface GuardsOfSave {
  guardId: number
  how: 'warned' | 'passed'
  name: string
  opening: Pick<GuardOpening, 'by' | 'reason' | 'until'> | null
}

export async function guardsOfSave(
  db: Database,
  save: { source_id: number; type_id: number; record_key: string; transaction_id: string; captured_at: string },
): Promise<GuardsOfSave[]> {
  const { rows } = await db.raw<{
    rows: { guard_id: number; how: GuardsOfSave['how']; by: string | null; reason: string; until_at: string }[]
  }>(
    `select distinct on (m.guard_id) m.guard_id, m.how, p.name as by, o.reason, o.until_at
       from spoor.guard_met m join spoor.guard g on g.id = m.guard_id
       left join spoor.guard_opening o on o.id = m.opening_id left join spoor.person p on p.id = o.by
      where g.source_id = ? and m.type_id = ? and m.record_key = ? and m.transaction_id = ? and m.how <> 'refused'
        and m.at between ?::timestamptz - interval '1 hour' and ?::timestamptz + interval '1 hour' order by m.guard_id, m.id`,
    [save.source_id, save.type_id, save.record_key, save.transaction_id, save.captured_at, save.captured_at],
  )
  if (rows.length === 0) return []
  // A guard keeps its number and may have been called otherwise then; what it is called now is where it is found.
  const { plan } = await planInForce(db, save.source_id)
  const guards = guardsOf(plan, save.type_id)
  return rows.map(({ guard_id, how, by, reason, until_at }) => ({
    guardId: guard_id,
    how,
    name: guards.get(guard_id)?.name ?? `guard ${guard_id}`,
    opening: by === null ? null : { by, reason, until: until_at },
  }))
}
