import type { Correction } from '@spoor/contract'
import type { Knex } from 'knex'
import { maskedFields } from '../ledger/masked.ts'
import type { JobRow } from '../work/jobs.ts'
import { whyTwo } from './approval.ts'
import { isUnwritten } from './rest.ts'
import {
  groupsOf,
  headShown,
  heads,
  isChosen,
  noSuch,
  shownLength,
  subjectOf,
  told,
  wantedValue,
  type HeadRow,
  type KeptTrial,
} from './store.ts'

/** A correction as it is shown: what becomes of its values in groups, and what it waits for. */
export async function readCorrection(db: Knex, correctionId: number): Promise<Correction> {
  const row = (await heads(db).where('c.id', correctionId).first()) as HeadRow | undefined
  if (!row) throw noSuch(correctionId)
  const masked = await maskedFields(db)
  const { others } = await told(db, correctionId, row.trial, masked)
  const { rows: writes } = await db.raw<{ rows: Correction['writes'][] }>(
    `select count(*)::int as values, count(distinct (i.type_id, i.record_key))::int as records,
            (count(distinct (i.type_id, i.record_key)) filter (where i.act = 'recreate' and i.state = 'clear'))::int as recreates,
            (count(distinct (i.type_id, i.record_key)) filter (where i.act = 'remove'))::int as removes
       from spoor.correction_item i where i.correction_id = ? and ${isChosen}`,
    [correctionId],
  )
  const saves = await db('ledger.save')
    .where({ correction_id: correctionId })
    .orderBy('id')
    .limit(mostSaves)
    .pluck<string[]>('id')
  const [all] = await db('ledger.save').where({ correction_id: correctionId }).count<{ count: string }[]>('* as count')
  const savedIn = await db('ledger.save')
    .where({ correction_id: correctionId })
    .groupBy('transaction_id')
    .orderByRaw('1')
    .min<{ id: string }[]>('id as id')
  return {
    ...headShown(row),
    asked: row.asked,
    leftOut: row.left_out,
    along: row.along,
    draftedById: row.drafted_by,
    repeats: row.repeats_name === null ? null : { from: row.repeats_name, on: row.source_name },
    givenOut: await givenOut(db, row),
    ...(await workOn(db, correctionId, row.trial)),
    takesTwo: row.state === 'draft' ? await whyTwo(db, correctionId) : null,
    proposed:
      row.proposed_by === null
        ? null
        : { by: row.proposed_by_name!, byId: row.proposed_by, at: row.proposed_at!, reason: row.proposed_reason! },
    sentBack: row.sent_back_words === null ? null : { by: row.sent_back_by_name!, words: row.sent_back_words },
    groups: await groupsOf(db, correctionId),
    writes: writes[0]!,
    trial: row.trial && {
      at: row.trial.at,
      refusal: row.trial.refusal,
      refused: row.trial.refused ?? [],
      effects: others.slice(0, mostEffects).map(({ before, after, ...effect }) => ({
        ...effect,
        before: before?.slice(0, shownLength) ?? null,
        after: after?.slice(0, shownLength) ?? null,
      })),
      effectCount: others.length,
    },
    piecemeal: row.piecemeal || row.attempt?.piecemeal === true ? await leftOf(db, correctionId) : null,
    restOf: row.rest_of,
    savedIn: savedIn.map(({ id }) => id),
    savedAs: saves,
    savedCount: Number(all!.count),
    verdict: row.state === 'applied' && saves.length > 0 ? await verdictOf(db, correctionId, masked) : null,
  }
}

async function leftOf(db: Knex, correctionId: number): Promise<NonNullable<Correction['piecemeal']>> {
  const { rows } = await db.raw<{ rows: NonNullable<Correction['piecemeal']>[] }>(
    `select (select max(r.id) from spoor.correction r where r.rest_of = ?) as "restId",
            count(*)::int as values, count(distinct (i.type_id, i.record_key))::int as records
       from spoor.correction_item i where i.correction_id = ? and ${isUnwritten}`,
    [correctionId, correctionId],
  )
  return rows[0]!
}

/** What became of a draft that somebody else carries out by hand, as far as the trail saw it. */
async function givenOut(
  db: Knex,
  { id, state, handed_at: at, handed_by_name: by }: HeadRow,
): Promise<Correction['givenOut']> {
  if (state !== 'draft' || at === null) return null
  const { rows } = await db.raw<{ rows: { done: number; open: number }[] }>(
    `select (count(*) filter (where saw.same))::int as done, (count(*) filter (where saw.same is not true))::int as open
       from spoor.correction_item i left join lateral (
         select c.after is not distinct from ${wantedValue} as same from ledger.change c
          where c.type_id = i.type_id and c.record_key = i.record_key and c.field_id = i.field_id and c.captured_at > ?::timestamptz
          order by c.captured_at desc, c.save_id desc limit 1) saw on true
      where i.correction_id = ? and (${isChosen} or saw.same and i.state = 'already-so')`,
    [at, id],
  )
  return { by: by!, at, ...rows[0]! }
}

/** The long work on a correction: what goes on, or why the last of it came to nothing. */
async function workOn(
  db: Knex,
  correctionId: number,
  trial: KeptTrial | null,
): Promise<Pick<Correction, 'work' | 'cameToNothing'>> {
  const job = await db('spoor.job')
    .where({ kind: 'correcting', subject: subjectOf(correctionId) })
    .orderBy('id', 'desc')
    .first<
      Pick<JobRow, 'id' | 'asked_by' | 'doing' | 'done' | 'total' | 'ended_at' | 'outcome' | 'result'> | undefined
    >('id', 'asked_by', 'doing', 'done', 'total', 'ended_at', 'outcome', 'result')
  if (!job) return { work: null, cameToNothing: null }
  const { id: jobId, asked_by: askedById, doing, done, total, ended_at: endedAt, outcome, result } = job
  if (endedAt === null)
    return {
      work: { jobId, askedById, doing, done: Number(done), total: total === null ? null : Number(total) },
      cameToNothing: null,
    }
  const isLast = outcome !== 'done' && Date.parse(endedAt) > Date.parse(trial?.at ?? endedAt) - 1
  return { work: null, cameToNothing: isLast ? result : null }
}

const mostSaves = 5
const mostOtherwise = 100
const mostEffects = 200

/** What was written, held against what was captured of it: the last change of each value by this correction. */
async function verdictOf(db: Knex, correctionId: number, masked: ReadonlySet<number>): Promise<Correction['verdict']> {
  const { rows } = await db.raw<{
    rows: {
      typeId: number
      key: string
      label: string
      fieldId: number
      target: string | null
      seen: boolean
      after: string | null
      total: string
    }[]
  }>(
    `with saw as (
       select distinct on (c.type_id, c.record_key, c.field_id) c.type_id, c.record_key, c.field_id, c.after, c.erased
         from ledger.save s join ledger.change c on c.save_id = s.id and c.captured_at = s.captured_at
        where s.correction_id = ? order by c.type_id, c.record_key, c.field_id, c.save_id desc)
     select i.type_id as "typeId", i.record_key as key, i.label, i.field_id as "fieldId", left(${wantedValue}, ?) as target,
            saw.field_id is not null as seen, left(saw.after, ?) as after, count(*) over () as total
       from spoor.correction_item i left join saw using (type_id, record_key, field_id)
      where i.correction_id = ? and i.written and not i.erased and not coalesce(saw.erased, false)
        and (saw.field_id is null or saw.after is distinct from ${wantedValue}) order by i.id limit ?`,
    [correctionId, shownLength, shownLength, correctionId, mostOtherwise],
  )
  const [written] = await db('spoor.correction_item')
    .where({ correction_id: correctionId, written: true })
    .count<{ count: string }[]>('* as count')
  const otherwise = Number(rows[0]?.total ?? 0)
  return {
    asAsked: Number(written!.count) - otherwise,
    otherwise: rows.map(({ seen, after, total: _, ...one }) => ({
      ...one,
      target: masked.has(one.fieldId) ? null : one.target,
      seen: seen && !masked.has(one.fieldId) ? { value: after } : null,
    })),
    otherwiseCount: otherwise,
  }
}
