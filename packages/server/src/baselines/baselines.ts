import type { Baseline, meanings, routes } from '@spoor/contract'
import { listed } from '@spoor/core'
import type { Knex } from 'knex'
import type * as v from 'valibot'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { SignedIn } from '../http/bind.ts'
import { recordEvent } from '../ledger/events.ts'
import { maskedFields } from '../ledger/masked.ts'
import { ask } from '../work/jobs.ts'

export type BaselineWish = v.InferOutput<(typeof routes.makeBaseline)['body']>
/** What its job is asked for. */
export interface BaselineJob {
  baselineId: number
  words: string | null
  where: BaselineWish['where']
  /** Whether it is only held against what was sealed. */
  check: boolean
}

export interface BaselineRow {
  id: number
  name: string
  type_id: number
  at: string
  field_ids: number[]
  meant: string
  whole: boolean
  made_by_name: string
  made_at: string
  why: string
  state: Baseline['state']
  records: string
  digest: string | null
  job_id: number | null
}

const rows = (db: Knex) =>
  db('spoor.baseline as b').join('spoor.person as p', 'p.id', 'b.made_by').select('b.*', 'p.name as made_by_name')

async function shown(db: Knex, found: readonly BaselineRow[]): Promise<Baseline[]> {
  const signatures = await db('spoor.baseline_signature as s')
    .join('spoor.person as p', 'p.id', 's.person_id')
    .whereIn(
      's.baseline_id',
      found.map(({ id }) => id),
    )
    .orderBy('s.id')
    .select<{ baseline_id: number; by: string; meaning: (typeof meanings)[number]; note: string | null; at: string }[]>(
      's.baseline_id',
      'p.name as by',
      's.meaning',
      's.note',
      's.signed_at as at',
    )
  return found.map((row) => ({
    id: row.id,
    name: row.name,
    typeId: row.type_id,
    at: row.at,
    fieldIds: row.field_ids,
    meant: row.meant,
    whole: row.whole,
    madeBy: row.made_by_name,
    madeAt: row.made_at,
    why: row.why,
    state: row.state,
    records: Number(row.records),
    digest: row.digest,
    jobId: row.job_id,
    signatures: signatures
      .filter((one) => one.baseline_id === row.id)
      .map(({ by, meaning, note, at }) => ({ by, meaning, note, at })),
  }))
}

const mostListed = 500

export async function listBaselines(db: Database): Promise<Baseline[]> {
  return await shown(db, (await rows(db).orderBy('b.id', 'desc').limit(mostListed)) as BaselineRow[])
}

export async function baselineRow(db: Knex, id: number): Promise<BaselineRow> {
  const row = (await rows(db).where('b.id', id).first()) as BaselineRow | undefined
  if (!row) throw new Problem('not-found', `There is no baseline ${id}.`)
  return row
}

export async function readBaseline(db: Knex, id: number): Promise<Baseline> {
  return (await shown(db, [await baselineRow(db, id)]))[0]!
}

const conditionWords: Readonly<Record<BaselineWish['where'][number]['is'], string>> = {
  equal: 'is a certain value',
  other: 'is not a certain value',
  containing: 'contains certain words',
  more: 'is more than a certain value',
  less: 'is less than a certain value',
  empty: 'is nothing',
  filled: 'is something',
}

/**
 * Names a moment of some records, and asks for them to be put down.
 * @throws Problem where the name is taken, the moment is still to come, or a field is another type's or masked
 */
export async function makeBaseline(db: Database, wish: BaselineWish, person: SignedIn): Promise<Baseline> {
  const { name, typeId, fieldIds, words, where, why } = wish
  const now = new Date().toISOString()
  const at = wish.at ?? now
  if (Date.parse(at) > Date.parse(now))
    throw new Problem('rule-broken', 'That moment is still to come: nobody knows what records will hold then.')
  return await db.transaction(async (trx) => {
    const type = await trx('spoor.record_type').where({ id: typeId }).first<{ plural: string } | undefined>('plural')
    const wanted = [...new Set([...fieldIds, ...where.map((one) => one.fieldId)])]
    const fields = await trx('spoor.field')
      .where({ type_id: typeId })
      .whereIn('id', wanted)
      .select<{ id: number; name: string }[]>('id', 'name')
    if (!type || fields.length < wanted.length)
      throw new Problem('not-found', 'There is no such record type with those fields. Nothing was kept.')
    const masked = await maskedFields(trx)
    if (wanted.some((id) => masked.has(id)))
      throw new Problem(
        'not-allowed',
        'A masked field is no part of a baseline, since its values are not told. Leave it out.',
      )
    const named = (id: number) => fields.find((field) => field.id === id)!.name
    const conditions = [
      ...(words === undefined ? [] : ['whose name holds certain words']),
      ...where.map(({ fieldId, is }) => `whose ${named(fieldId)} ${conditionWords[is]}`),
    ]
    const [row] = await trx('spoor.baseline')
      .insert({
        name,
        type_id: typeId,
        at,
        field_ids: [...new Set(fieldIds)],
        // Values that were asked for are left out: what is sealed cannot be erased.
        meant: conditions.length === 0 ? `all ${type.plural}` : `${type.plural} ${listed(conditions)}`,
        whole: conditions.length === 0,
        made_by: person.id,
        why,
      })
      .onConflict(trx.raw('(lower(name))'))
      .ignore()
      .returning<{ id: number }[]>('id')
    if (!row)
      throw new Problem('name-taken', `There is a baseline “${name}” already. Nothing was kept; give another name.`)
    const { job } = await ask(trx, {
      kind: 'baseline',
      subject: `baseline ${row.id}`,
      words: `Putting down the baseline “${name}”`,
      input: { baselineId: row.id, words: words ?? null, where, check: false } satisfies BaselineJob,
      personId: person.id,
    })
    await trx('spoor.baseline').where({ id: row.id }).update({ job_id: job.id })
    await recordEvent(trx, { kind: 'custody', personId: person.id, words: `made baseline ${row.id}` })
    return await readBaseline(trx, row.id)
  })
}

/** @throws Problem while it is being put down, or where the person said so already */
export async function signBaseline(
  db: Database,
  id: number,
  { meaning, note }: { meaning: (typeof meanings)[number]; note?: string | undefined },
  person: SignedIn,
): Promise<Baseline> {
  return await db.transaction(async (trx) => {
    const { state, digest } = await baselineRow(trx, id)
    if (state !== 'kept')
      throw new Problem('rule-broken', 'Its records are still being put down. Sign when that is done.')
    const [signed] = await trx('spoor.baseline_signature')
      .insert({ baseline_id: id, person_id: person.id, meaning, note: note === '' ? null : (note ?? null) })
      .onConflict(['baseline_id', 'person_id', 'meaning'])
      .ignore()
      .returning<{ id: number }[]>('id')
    if (!signed) throw new Problem('rule-broken', `You signed it as ${meaning} already; that stands.`)
    await recordEvent(trx, {
      kind: 'custody',
      personId: person.id,
      words: `signed baseline ${id} as ${meaning}, its digest ${digest}`,
    })
    return await readBaseline(trx, id)
  })
}

/** @throws Problem while it is being put down */
export async function askToCheck(db: Database, id: number, personId: number): Promise<number> {
  return await db.transaction(async (trx) => {
    const { state, name } = await baselineRow(trx, id)
    if (state !== 'kept') throw new Problem('rule-broken', 'Its records are still being put down.')
    const { job } = await ask(trx, {
      kind: 'baseline',
      subject: `baseline ${id}`,
      words: `Holding the baseline “${name}” against the ledger`,
      input: { baselineId: id, words: null, where: [], check: true } satisfies BaselineJob,
      personId,
    })
    return job.id
  })
}
