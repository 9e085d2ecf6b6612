import { comparePlans, planImpact, rulesOf, withEdits, type TrackingPlan, type TypeActivity } from '@spoor/core'
import type { DraftCost } from '@spoor/contract'
import { boundArray, type Database } from '../database/knex.ts'
import type { Sources } from '../sources/registry.ts'
import { aboutRows } from '../sources/size.ts'
import { isUnreachable } from '../sources/trouble.ts'
import { perDay, readRates, windowDays } from './activity.ts'
import { planInForce, readDraft } from './plan-store.ts'

/** From the benchmark of the collector; used until the ledger holds enough to tell for itself. */
const assumedBytesPerChange = 450
const enoughChanges = 5000

/** What a source's draft would write into the ledger, from what the source and the ledger counted. */
export async function costDraft(db: Database, sources: Sources, sourceId: number): Promise<DraftCost> {
  const { plan } = await planInForce(db, sourceId)
  const next = withEdits(plan, (await readDraft(db, sourceId)).edits)
  const rates = await readRates(db, sourceId)
  const fields = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('t.source_id', sourceId)
    .select<{ id: number; type_id: number; name: string }[]>('f.id', 'f.type_id', 't.name')
  const names = new Map(fields.map((field) => [field.type_id, field.name]))
  const involved = new Set([...Object.keys(plan.types), ...Object.keys(next.types)].map(Number))
  const activity = new Map<number, TypeActivity>()
  const unknown: string[] = []
  for (const typeId of involved) {
    const written = rates.written.get(typeId)
    if (!written && !plan.types[typeId]) unknown.push(names.get(typeId) ?? `record type ${typeId}`)
    const { created, changed, deleted } = written ? perDay(written) : { created: 0, changed: 0, deleted: 0 }
    activity.set(typeId, {
      created,
      changed,
      deleted,
      saves: rates.saves.get(typeId) ?? 0,
      fieldChanges: Object.fromEntries(
        fields
          .filter((field) => field.type_id === typeId)
          .map((field) => [field.id, rates.fieldChanges.get(field.id) ?? 0]),
      ),
      savesLeft: await savesLeft(db, plan, next, typeId),
    })
  }
  const bytes = await bytesPerChange(db)
  const spells = [...rates.written.values()]
  const at = (ms: number[]) => (ms.length > 0 ? new Date(Math.min(...ms)).toISOString() : null)
  return {
    ...planImpact(plan, next, activity, bytes.perChange),
    bytesPerChange: bytes.perChange,
    measured: bytes.measured,
    from: at(spells.map((spell) => spell.fromMs)),
    to: at(spells.map((spell) => spell.toMs)),
    unknown,
    found: await foundCost(db, sources, sourceId, plan, next),
  }
}

/** From the benchmark: what a found record and each of its values take, and how many records are taken in a second. */
const assumed = { perRecord: 300, perValue: 30, recordsPerSecond: 4500 }

/** What taking in what is there will take, by what the source reckons its tables hold. */
async function foundCost(
  db: Database,
  sources: Sources,
  sourceId: number,
  plan: TrackingPlan,
  next: TrackingPlan,
): Promise<DraftCost['found']> {
  const begun = new Map<number, number>()
  for (const { typeId, to } of comparePlans(plan, next))
    if (to !== 'off' && rulesOf(next, typeId).asFound === 'take') begun.set(typeId, (begun.get(typeId) ?? 0) + 1)
  if (begun.size === 0) return { records: 0, values: 0, bytes: 0, seconds: 0 }
  const types = await db('spoor.record_type')
    .whereIn('id', [...begun.keys()])
    .select<{ id: number; relation_id: string }[]>('id', 'relation_id')
  try {
    const source = await sources.connection(sourceId)
    const about = await aboutRows(
      source,
      types.map((type) => type.relation_id),
    )
    const cost = { records: 0, values: 0, bytes: 0, seconds: 0 }
    for (const type of types) {
      const records = about.get(type.relation_id) ?? 0
      const values = records * begun.get(type.id)!
      cost.records += records
      cost.values += values
      cost.bytes += records * assumed.perRecord + values * assumed.perValue
      cost.seconds += records / assumed.recordsPerSecond
    }
    return cost
  } catch (error) {
    if (isUnreachable(error)) return null
    throw error
  }
}

/** Saves a day that still have a field which goes on being tracked; null when none goes off. */
async function savesLeft(db: Database, plan: TrackingPlan, next: TrackingPlan, typeId: number): Promise<number | null> {
  const left = Object.keys(next.types[typeId]?.fields ?? {}).map(Number)
  const goes = Object.keys(plan.types[typeId]?.fields ?? {}).some((fieldId) => !left.includes(Number(fieldId)))
  if (!goes || left.length === 0) return null
  const { rows } = await db.raw<{ rows: { saves: string }[] }>(
    `select count(distinct save_id) as saves from ledger.change
      where field_id = any(?::int[]) and type_id = ? and captured_at >= now() - make_interval(days => ?)`,
    [boundArray(left), typeId, windowDays],
  )
  return Number(rows[0]!.saves) / windowDays
}

async function bytesPerChange(db: Database): Promise<{ perChange: number; measured: boolean }> {
  const { rows } = await db.raw<{ rows: { bytes: string | null; changes: string | null }[] }>(
    `select (select sum(pg_total_relation_size(inhrelid)) from pg_inherits where inhparent in ('ledger.save'::regclass, 'ledger.change'::regclass))::text as bytes,
            (select sum(changes) from ledger.collector_state)::text as changes`,
  )
  const changes = Number(rows[0]?.changes ?? 0)
  if (changes < enoughChanges) return { perChange: assumedBytesPerChange, measured: false }
  return { perChange: Number(rows[0]!.bytes) / changes, measured: true }
}
