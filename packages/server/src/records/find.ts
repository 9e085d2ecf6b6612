import type { RecordHits } from '@spoor/contract'
import { groupBy, keyOfOne, recordPlace, type Scope } from '@spoor/core'
import type { Knex } from 'knex'
import { seenRecord } from '../changes/queries/seen-record.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { maskedFields } from '../ledger/masked.ts'
import { isLimited } from '../ledger/reach.ts'
import { anywhere } from '../ledger/scope-sql.ts'
import { longestTelling, telling } from '../ledger/telling.ts'
import { threadOf } from '../ledger/thread.ts'

type Hit = RecordHits['records'][number]

const mostHits = 20
/** So many that contain the words are put in order; of more, those that begin with them are met all the same. */
const mostMet = 2000
/** Shorter words are the beginning of too many names to be looked for anywhere in them. */
const leastAnywhere = 3

/**
 * Records by words: those whose name or key contains them, those that begin with them first; then, for whoever sees
 * everything, those that hold or held exactly that in a field that is not masked. Keys that a record had lead to it.
 */
export async function findRecords(
  db: Database,
  words: string,
  typeId: number | undefined,
  reach: Scope,
  nowMs: number,
): Promise<RecordHits> {
  const named = await byName(db, words, typeId, reach, nowMs)
  if (isLimited(reach)) return { records: named }
  const records = await Promise.all(named.map((hit) => ofNow(db, hit)))
  const valued = words.length < leastAnywhere || words.length > longestTelling ? [] : await byValue(db, words, typeId)
  // By name before by value, each record once.
  const once = groupBy([...records, ...valued], (hit) => recordPlace(hit.typeId, hit.key))
  return { records: [...once.values()].map(([first]) => first!).slice(0, mostHits) }
}

async function byName(
  db: Database,
  words: string,
  typeId: number | undefined,
  reach: Scope,
  nowMs: number,
): Promise<Hit[]> {
  const pattern = anywhere(words)
  const begin = words.toLowerCase()
  const told = isLimited(reach) ? 'seen' : 'r'
  const ofType = (query: Knex.QueryBuilder) => (typeId === undefined ? query : query.where('type_id', typeId))
  const record = () => ofType(db('spoor.record').select('type_id', 'record_key', 'label', 'deleted'))
  // By an index in its own order, so that a name which begins so is met whatever else contains the words.
  const beginning = record()
    .whereRaw(`lower(left(label, 40)) collate "C" >= ? and lower(left(label, 40)) collate "C" < ?`, [
      begin,
      `${begin}\u{10ffff}`,
    ])
    .orderByRaw(`lower(left(label, 40)) collate "C"`)
    .limit(mostHits)
  const containing = record()
    .where((q) => q.whereILike('label', pattern).orWhereILike('record_key', pattern))
    .limit(mostMet)
  const keyed = record().where('record_key', keyOfOne(words))
  // Whoever sees a part may know only some of those that are met, so all are.
  const met = isLimited(reach)
    ? record().where((q) => q.whereILike('label', pattern).orWhereILike('record_key', pattern))
    : keyed.union(words.length < leastAnywhere ? [beginning] : [beginning, containing], true)
  const query = db.from(met.as('r'))
  if (isLimited(reach))
    // They find a record by what they may know of it, and not by what it is called since.
    query
      .joinRaw('join lateral ? seen on true', [seenRecord(db, reach, nowMs, 'r') as never])
      .where((q) => q.whereILike('seen.label', pattern).orWhereILike('seen.record_key', pattern))
  const rows = (await query
    .orderByRaw(`${told}.label ilike ? desc, length(${told}.label), ${told}.label`, [pattern.slice(1)])
    .limit(mostHits)
    .select(`${told}.type_id as typeId`, `${told}.record_key as key`, `${told}.label`, `${told}.deleted`)) as Omit<
    Hit,
    'by'
  >[]
  return rows.map((row) => ({ ...row, by: null }))
}

/** A key that its record has given up leads to it as it is called now. */
async function ofNow(db: Database, hit: Hit): Promise<Hit> {
  if (!hit.deleted) return hit
  const now = (await threadOf(db, hit.typeId, hit.key)).at(-1)!.key
  if (now === hit.key) return hit
  const record = await db('spoor.record')
    .where({ type_id: hit.typeId, record_key: now })
    .first<{ label: string; deleted: boolean } | undefined>('label', 'deleted')
  return record ? { typeId: hit.typeId, key: now, ...record, by: { formerKey: hit.key } } : hit
}

interface ValueRow {
  type_id: number
  record_key: string
  label: string
  deleted: boolean
  field_id: number
  value: string
  now: boolean
}

async function byValue(db: Database, words: string, typeId: number | undefined): Promise<Hit[]> {
  const masked = boundArray([...(await maskedFields(db))])
  const ofType = typeId === undefined ? '' : 'and x.type_id = ?'
  const type = typeId === undefined ? [] : [typeId]
  const { rows } = await db.raw<{ rows: ValueRow[] }>(
    `(select x.type_id, x.record_key, x.label, x.deleted is not null as deleted, e.key::int as field_id, e.value ->> 0 as value, true as now
        from spoor.standing x cross join lateral jsonb_each(x.vals) e
       where spoor.words_held(x.vals) @> array[lower(?)] and lower(e.value ->> 0) = lower(?) and e.key::int <> all(?::int[])
         and e.value ->> 3 is null ${ofType} limit ?)
     union all
     (select x.type_id, x.record_key, coalesce(r.label, x.record_key), coalesce(r.deleted, false), x.field_id, x.before, false
        from (select x.* from ledger.change x
               where lower(x.before) collate "C" = lower(?) and ${telling('x.before')} and not x.erased and x.field_id <> all(?::int[]) ${ofType} limit ?) x
        left join spoor.record r on r.type_id = x.type_id and r.record_key = x.record_key)`,
    [words, words, masked, ...type, mostHits, words, masked, ...type, mostHits * 5],
  )
  return await Promise.all(
    rows.map(async ({ type_id: type, record_key: key, label, deleted, field_id: fieldId, value, now }) => ({
      ...(await ofNow(db, { typeId: type, key, label, deleted, by: null })),
      by: { fieldId, value, now },
    })),
  )
}
