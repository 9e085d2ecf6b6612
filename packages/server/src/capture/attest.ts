import { capitalised, listed, type TrackingPlan } from '@spoor/core'
import type { Knex } from 'knex'
import { raiseAlarm, settleAlarms } from '../custody/alarms.ts'
import { instantText, type Database } from '../database/knex.ts'

/** One trigger as it was found installed. */
export interface InstalledTrigger {
  typeId: number
  relationId: number
  name: string
  /** Digest of the function's text. */
  digest: string
  /** Switched off by the installation itself, where another one speaks in its place. */
  off?: boolean
}

interface FoundTrigger extends InstalledTrigger {
  off: boolean
}

/** All capture triggers of a source as they are now. */
export async function readTriggers(source: Database): Promise<FoundTrigger[]> {
  const { rows } = await source.raw<{
    rows: { name: string; relation_id: string; off: boolean; digest: string }[]
  }>(
    `select t.tgname::text as name, t.tgrelid::int8::text as relation_id, t.tgenabled <> 'A' as off,
            md5(p.prosrc || coalesce(p.proconfig::text, '') || p.prosecdef::text) as digest
       from pg_trigger t join pg_proc p on p.oid = t.tgfoid join pg_namespace n on n.oid = p.pronamespace
      where n.nspname = 'spoor_capture' and t.tgname ~ '^!?spoor_t[0-9]+_' order by t.tgrelid, t.tgname`,
  )
  return rows.map((row) => ({
    typeId: Number(/^!?spoor_t(\d+)_/.exec(row.name)![1]),
    relationId: Number(row.relation_id),
    name: row.name,
    digest: row.digest,
    off: row.off,
  }))
}

/** What is wrong with the triggers of a type: the deeds that would explain it. */
function faultsOf(expected: readonly InstalledTrigger[], found: readonly FoundTrigger[]): Map<number, Set<string>> {
  const there = new Map(found.map((trigger) => [`${trigger.relationId} ${trigger.name}`, trigger]))
  const faults = new Map<number, Set<string>>()
  for (const trigger of expected) {
    const now = there.get(`${trigger.relationId} ${trigger.name}`)
    const deed = !now ? 'dropped' : now.off && !trigger.off ? 'disabled' : now.digest !== trigger.digest ? 'altered' : null
    if (deed) faults.set(trigger.typeId, (faults.get(trigger.typeId) ?? new Set()).add(deed))
  }
  return faults
}

/**
 * Compares the triggers in the source with those the plan installed. Where they differ coverage ends at the last
 * moment they were known to be right, and begins again when they are; both are said in an alarm's words.
 * @returns the words of what is wrong, one a type.
 */
export async function attest(db: Database, source: Database, sourceId: number): Promise<string[]> {
  const row = await db('spoor.plan_version')
    .where({ source_id: sourceId, state: 'in force' })
    .first<{ version: number; plan: TrackingPlan; installed: InstalledTrigger[] | null; put_at: string } | undefined>(
      'version',
      'plan',
      'installed',
      'put_at',
    )
  if (!row?.installed) return []
  const { rows: clock } = await source.raw<{ rows: { now: string }[] }>('select clock_timestamp()::text as now')
  const now = instantText(clock[0]!.now)
  const faults = faultsOf(row.installed, await readTriggers(source))
  // Between the commit in the source and its being written down here, the triggers are those of the next plan.
  if (faults.size > 0 && (await isMoving(db, sourceId, row.version))) return []
  const state = await db('ledger.collector_state')
    .where({ source_id: sourceId })
    .first<{ attested_at: string | null }>('attested_at')
  const lastGood = state.attested_at !== null && state.attested_at > row.put_at ? state.attested_at : row.put_at
  const words: string[] = []
  await db.transaction(async (trx) => {
    for (const [typeId, type] of Object.entries(row.plan.types)) {
      const fieldIds = Object.keys(type.fields).map(Number)
      const deeds = faults.get(Number(typeId))
      if (deeds) words.push(await endCoverage(trx, Number(typeId), fieldIds, lastGood, [...deeds]))
      else await resumeCoverage(trx, type.fields, now)
    }
    await trx('ledger.collector_state').where({ source_id: sourceId }).update({ attested_at: now })
  })
  for (const one of words) await raiseAlarm(db, sourceId, 'capture-altered', one)
  if (words.length === 0) await settleAlarms(db, sourceId, 'capture-altered')
  return words
}

async function isMoving(db: Database, sourceId: number, version: number): Promise<boolean> {
  const states = await db('spoor.plan_version').where({ source_id: sourceId }).whereIn('state', ['in force', 'installing']).select<{ version: number; state: string }[]>('version', 'state') // prettier-ignore
  return states.some((row) => row.state === 'installing' || row.version !== version)
}

async function endCoverage(
  trx: Knex.Transaction,
  typeId: number,
  fieldIds: readonly number[],
  lastGood: string,
  deeds: readonly string[],
): Promise<string> {
  const type = await trx('spoor.record_type').where({ id: typeId }).first<{ plural: string }>('plural')
  const because = `capture triggers were ${listed(deeds)} in the source`
  await trx('spoor.coverage')
    .whereIn('field_id', fieldIds)
    .whereNull('to_at')
    .update({ to_at: lastGood, ended_because: because })
  const since = await trx('spoor.coverage')
    .whereIn('field_id', fieldIds)
    .where({ ended_because: because })
    .max<{ max: string }[]>('to_at')
  return `${capitalised(type.plural)} are not being captured: ${because}. What is changed there since ${since[0]?.max ?? lastGood} is not on the trail. Put a plan in force again to mend it.`
}

async function resumeCoverage(
  trx: Knex.Transaction,
  fields: TrackingPlan['types'][string]['fields'],
  now: string,
): Promise<void> {
  for (const [fieldId, { keep }] of Object.entries(fields)) {
    const open = await trx('spoor.coverage')
      .where({ field_id: Number(fieldId), to_at: null })
      .first('id')
    if (!open) await trx('spoor.coverage').insert({ field_id: Number(fieldId), keep, from_at: now })
  }
}
