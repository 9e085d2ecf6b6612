import { capitalised, counted, listed, type TrackingPlan } from '@spoor/core'
import type { Knex } from 'knex'
import { raiseAlarm, overAlarms } from '../alarms/alarms.ts'
import { boundArray, instantText, type Database } from '../database/knex.ts'
import { movementsOf, readFamilies, rowsWithoutSave, takeOff, type Family } from './family.ts'

/** One trigger as it was found installed. */
export interface InstalledTrigger {
  typeId: number
  relationId: number
  name: string
  /** Digest of the function's text. */
  digest: string
  /** Switched off by the installation itself, where another one speaks in its place. */
  off?: boolean
  /**
   * Which version of their rows in the catalogue the trigger, its function and all that they stand on are: it changes
   * when somebody lays hands on one of them, also when it then looks as before. Absent in plans put in force before.
   */
  version?: string
}

interface FoundTrigger extends InstalledTrigger {
  off: boolean
  version: string
}

/** All capture triggers of a source as they are now. */
export async function readTriggers(source: Database): Promise<FoundTrigger[]> {
  const { rows } = await source.raw<{
    rows: { name: string; relation_id: string; off: boolean; digest: string; version: string }[]
  }>(
    `with ground as (
       -- What every function stands on: the helpers, and what watches or could rewrite the outbox.
       select md5(string_agg(what, ',' order by what)) as version from (
         select 'f' || f.oid || ':' || f.xmin as what from pg_proc f join pg_namespace s on s.oid = f.pronamespace
          where s.nspname = 'spoor_capture' and f.proname !~ '^spoor_t[0-9]+_'
         union all select 't' || g.oid || ':' || g.xmin from pg_trigger g where g.tgrelid = to_regclass('spoor_capture.outbox')
         union all select 'r' || w.oid || ':' || w.xmin from pg_rewrite w where w.ev_class = to_regclass('spoor_capture.outbox')) parts)
     select t.tgname::text as name, t.tgrelid::int8::text as relation_id, t.tgenabled <> 'A' as off,
            md5(p.prosrc || coalesce(p.proconfig::text, '') || p.prosecdef::text) as digest,
            md5(concat_ws(' ', t.oid, t.xmin, p.oid, p.xmin, t.tgqual, (select version from ground))) as version
       from pg_trigger t join pg_proc p on p.oid = t.tgfoid join pg_namespace n on n.oid = p.pronamespace
      where n.nspname = 'spoor_capture' and t.tgname ~ '^!{0,1}spoor_t[0-9]+_' order by t.tgrelid, t.tgname`,
  )
  return rows.map((row) => ({
    typeId: Number(/^!?spoor_t(\d+)_/.exec(row.name)![1]),
    relationId: Number(row.relation_id),
    name: row.name,
    digest: row.digest,
    off: row.off,
    version: row.version,
  }))
}

/** What is wrong with the triggers of a type: the deeds that would explain it. */
function faultsOf(
  expected: readonly InstalledTrigger[],
  found: readonly FoundTrigger[],
  families: readonly Family[],
): Map<number, Set<string>> {
  const faults = new Map<number, Set<string>>()
  const familyOf = new Map(families.map((family) => [family.typeId, family]))
  const there = new Map(found.map((trigger) => [`${trigger.relationId} ${trigger.name}`, trigger]))
  for (const trigger of expected) {
    const family = familyOf.get(trigger.typeId)
    // A partition that was dropped or detached takes its triggers along; a table that was dropped is not in the source.
    if (family && !family.members.has(trigger.relationId)) continue
    const now = there.get(`${trigger.relationId} ${trigger.name}`)
    const deed = !now ? 'dropped' : now.off && !trigger.off ? 'disabled' : !sameAs(trigger, now) ? 'altered' : null
    if (deed) faults.set(trigger.typeId, (faults.get(trigger.typeId) ?? new Set()).add(deed))
  }
  return faults
}

function sameAs(trigger: InstalledTrigger, now: FoundTrigger): boolean {
  return now.digest === trigger.digest && (trigger.version === undefined || trigger.version === now.version)
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
  const families = await readFamilies(db, source, row.plan)
  const faults = faultsOf(row.installed, await readTriggers(source), families)
  // Between the commit in the source and its being written down here, the triggers are those of the next plan.
  if (faults.size > 0 && (await isMoving(db, sourceId, row.version))) return []
  const state = await db('ledger.collector_state')
    .where({ source_id: sourceId })
    .first<{ attested_at: string | null }>('attested_at')
  const lastGood = state.attested_at !== null && state.attested_at > row.put_at ? state.attested_at : row.put_at
  const gone = new Set(families.filter((family) => !family.there).map((family) => family.typeId))
  const words: string[] = []
  const standing: FieldKeeping[] = []
  await db.transaction(async (trx) => {
    for (const [typeId, type] of Object.entries(row.plan.types)) {
      if (gone.has(Number(typeId))) continue
      const deeds = faults.get(Number(typeId))
      if (deeds)
        words.push(await endCoverage(trx, Number(typeId), Object.keys(type.fields).map(Number), lastGood, [...deeds]))
      else
        standing.push(...Object.entries(type.fields).map(([fieldId, { keep }]) => ({ fieldId: Number(fieldId), keep })))
    }
    await resumeCoverage(trx, standing, now)
    await closeCoverage(trx, gone, lastGood)
    await trx('ledger.collector_state').where({ source_id: sourceId }).update({ attested_at: now })
  })
  for (const one of words) await raiseAlarm(db, { code: 'capture-altered', sourceId, words: one })
  await overAlarms(db, sourceId, 'capture-altered', words)
  await followPartitions(db, source, sourceId, { families, installed: row.installed, since: lastGood, now })
  return words
}

/**
 * Partitions that came are captured from their first row on. Rows that one brought along were created by no save, and
 * rows that one took away were deleted by none: that is a gap, as long as nobody looked, and is told.
 */
async function followPartitions(
  db: Database,
  source: Database,
  sourceId: number,
  {
    families,
    installed,
    since,
    now,
  }: { families: readonly Family[]; installed: readonly InstalledTrigger[]; since: string; now: string },
): Promise<void> {
  const { came, left } = movementsOf(families, installed)
  for (const { typeId, relationId } of left) {
    await takeOff(source, typeId, relationId)
    await interruptCoverage(db, typeId, since, now, 'a partition was dropped or detached, and its rows with it')
  }
  for (const partition of came) {
    const { typeId, table } = partition
    const type = await db('spoor.record_type')
      .where({ id: typeId })
      .first<{ plural: string; key_columns: string[] }>('plural', 'key_columns')
    const unsaved = await rowsWithoutSave(db, source, partition, type.key_columns)
    if (unsaved === 0) continue
    const rows = unsaved >= 1000 ? 'a thousand rows or more' : counted(unsaved, 'row')
    const because = `the partition ${table} brought ${rows} that no save created`
    await interruptCoverage(db, typeId, since, now, because)
    await raiseAlarm(db, {
      code: 'partition-rows',
      sourceId,
      words: `To ${type.plural}, ${because}, between ${since} and ${now}.`,
    })
  }
}

/** Coverage that was broken for a spell and goes on; told once, however often it is looked at. */
export async function interruptCoverage(
  db: Database,
  typeId: number,
  from: string,
  to: string,
  because: string,
): Promise<void> {
  await db.transaction(async (trx) => {
    const open = await trx('spoor.coverage as c')
      .join('spoor.field as f', 'f.id', 'c.field_id')
      .where({ 'f.type_id': typeId, 'c.to_at': null })
      .where('c.from_at', '<', from)
      .select<{ id: number; field_id: number; keep: string }[]>('c.id', 'c.field_id', 'c.keep')
    if (open.length === 0) return
    await trx('spoor.coverage')
      .whereIn(
        'id',
        open.map((one) => one.id),
      )
      .update({ to_at: from, ended_because: because })
    await trx('spoor.coverage').insert(open.map(({ field_id, keep }) => ({ field_id, keep, from_at: to })))
  })
}

/** A table that was dropped is captured again when one of its name is there and the triggers stand on it. */
async function closeCoverage(trx: Knex.Transaction, types: ReadonlySet<number>, at: string): Promise<void> {
  await trx('spoor.coverage')
    .whereIn(
      'field_id',
      trx('spoor.field')
        .whereIn('type_id', [...types])
        .select('id'),
    )
    .whereNull('to_at')
    .update({ to_at: at, ended_because: 'the table is not in the source any more' })
}

async function isMoving(db: Database, sourceId: number, version: number): Promise<boolean> {
  const states = await db('spoor.plan_version')
    .where({ source_id: sourceId })
    .whereIn('state', ['in force', 'installing'])
    .select<{ version: number; state: string }[]>('version', 'state')
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

interface FieldKeeping {
  fieldId: number
  keep: string
}

/** Begins coverage of what is captured and has none open. */
async function resumeCoverage(trx: Knex.Transaction, fields: readonly FieldKeeping[], now: string): Promise<void> {
  await trx.raw(
    `insert into spoor.coverage (field_id, keep, from_at)
     select w.field_id, w.keep, ?::timestamptz
       from unnest(?::int[], ?::text[]) as w(field_id, keep)
       join spoor.field f on f.id = w.field_id and f.present
      where not exists (select from spoor.coverage c where c.field_id = w.field_id and c.to_at is null)`,
    [now, boundArray(fields.map((field) => field.fieldId)), boundArray(fields.map((field) => field.keep))],
  )
}
