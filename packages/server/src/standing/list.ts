import { holdingNow, isOfFound, stand, type CoverageSpell, type Standing, type Standings } from '@spoor/core'
import type { StandingPage } from '@spoor/contract'
import type { Knex } from 'knex'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { coverageOf } from '../ledger/coverage.ts'
import { maskedFields } from '../ledger/masked.ts'
import { referencesOf } from '../ledger/references.ts'
import { anywhere } from '../ledger/scope-sql.ts'
import { comingAfter } from './after.ts'
import { standingAt, standingColumns, standingOf, type StandingRow } from './kept.ts'
import { lastSave, readSaves } from './saves.ts'

export interface StandingRequest {
  typeId: number
  fieldIds: readonly number[]
  /** Records whose name holds these words. */
  words: string | undefined
  /** What `next` of the page before said. */
  after: string | undefined
  limit: number
}

/** After everything that is known. */
const evermore = '9999-12-31T23:59:59Z'

const name = 'left(label, 200) collate spoor.natural'

/**
 * The records of a type as they stand, by their names: as they are kept, with what came since put upon them, so that
 * nothing here is older than the ledger.
 */
export async function standingPage(db: Database, request: StandingRequest): Promise<StandingPage> {
  return await db.transaction(
    async (trx) => {
      const behind = await savesBehind(trx)
      // On a ledger that is older than the follower: nobody waits for so much to be read at once.
      if (behind > mostBehind) return { records: [], references: [], next: null, coming: 0, behind }
      const masked = await maskedFields(trx)
      const tail = await tailOf(trx, request.typeId)
      const rows = await pageOf(trx, request, tail)
      const page = rows.slice(0, request.limit).map((row) => ({
        key: row.record_key,
        place: row.place,
        standing: row.in_tail ? tail.records.get(row.record_key)! : standingOf(row),
      }))
      const coverage = await coverageOf(trx, request.typeId, savesMet(page))
      const spellsOf = new Map(request.fieldIds.map((id) => [id, coverage.filter((spell) => spell.fieldId === id)]))
      const records = page.map(({ key, standing }) => ({
        key,
        label: standing.label,
        values: request.fieldIds.map((fieldId) => held(standing, fieldId, spellsOf.get(fieldId)!, masked.has(fieldId))),
      }))
      const pointing = records.flatMap(({ values }) =>
        values.map(({ fieldId, value }) => ({ fieldId, before: null, after: value })),
      )
      const last = page.at(-1)
      return {
        records,
        coming: await comingOf(trx, request.typeId),
        behind: 0,
        references: await referencesOf(trx, pointing),
        next: rows.length > request.limit && last ? JSON.stringify([last.place, last.key]) : null,
      }
    },
    { isolationLevel: 'repeatable read', readOnly: true },
  )
}

/** How many records were found that are not kept yet. */
async function comingOf(trx: Knex.Transaction, typeId: number): Promise<number> {
  const { rows } = await trx.raw<{ rows: { coming: string }[] }>(
    `select coalesce(sum(t.records - coalesce(s.records, 0)), 0) as coming
       from spoor.taking t left join spoor.standing_taking s on s.taking_id = t.id where t.type_id = ?`,
    [typeId],
  )
  return Number(rows[0]!.coming)
}

function held(
  standing: Standing,
  fieldId: number,
  coverage: readonly CoverageSpell[],
  masked: boolean,
): StandingPage['records'][number]['values'][number] {
  const stood = standing.fields.get(fieldId)
  const holding = holdingNow(standing, fieldId, coverage, evermore)
  const plain = { fieldId, value: null, unknown: null, cut: false, found: false, since: null }
  if (holding.state === 'unknown') return { ...plain, unknown: holding.why }
  if (masked) return { ...plain, unknown: 'masked' }
  if (holding.state === 'absent') return plain
  return {
    ...plain,
    value: holding.value,
    cut: stood?.cut ?? false,
    found: stood !== undefined && isOfFound(stood.by),
    since: stood?.at ?? standing.born,
  }
}

/** Saves that the records' values come from: they bear out since when their fields were tracked. */
function savesMet(page: readonly { standing: Standing }[]): { id: string; captured_at: string }[] {
  return page.flatMap(({ standing }) =>
    [...standing.fields.values()].flatMap(({ at, by }) => (isOfFound(by) ? [] : [{ id: by, captured_at: at }])),
  )
}

/** So many saves are put upon what is kept while somebody waits. */
const mostBehind = 30_000

async function savesBehind(trx: Knex.Transaction): Promise<number> {
  const { read_save } = await trx('spoor.standing_read').first<{ read_save: string }>('read_save')
  return Number(BigInt(await lastSave(trx)) - BigInt(read_save))
}

interface Tail {
  /** Keys of which what is kept is not the latest. */
  keys: readonly string[]
  records: Standings
}

/** What was saved since the follower read on, put upon what it keeps. */
async function tailOf(trx: Knex.Transaction, typeId: number): Promise<Tail> {
  const { read_save } = await trx('spoor.standing_read').first<{ read_save: string }>('read_save')
  const saves = await readSaves(trx, 's.type_id = ? and s.id > ?', [typeId, read_save], mostBehind)
  const keys = [...new Set(saves.flatMap(({ key, keyBefore }) => (keyBefore === null ? [key] : [key, keyBefore])))]
  const records = await standingAt(trx, typeId, keys)
  stand(records, saves, await comingAfter(trx, records, saves))
  return { keys, records }
}

/** A record in the order of the list; of one that is in the tail what it holds stands there. */
type PlacedRow = StandingRow & { place: string; in_tail: boolean }

/** The rows of a page, and one more where there is one. */
async function pageOf(
  trx: Knex.Transaction,
  { typeId, words, after, limit }: StandingRequest,
  tail: Tail,
): Promise<PlacedRow[]> {
  const begun = after === undefined ? null : parsedAfter(after)
  const here = [
    words === undefined ? '' : `and label ilike ? escape '\\'`,
    begun === null ? '' : `and (${name}, record_key) > (?, ?)`,
  ].join(' ')
  const bindings = [...(words === undefined ? [] : [anywhere(words)]), ...(begun ?? [])]
  const alive = [...tail.records].filter(([, { deleted }]) => deleted === null)
  const { rows } = await trx.raw<{ rows: PlacedRow[] }>(
    `select *, left(label, 200) as place from (
       (select ${standingColumns}, false as in_tail from spoor.standing
         where type_id = ? and deleted is null and record_key not in (select unnest(?::text[])) ${here}
         order by ${name}, record_key limit ?)
       union all
       (select record_key, label, null, null, null, null, null, true from unnest(?::text[], ?::text[]) as tail(record_key, label)
         where true ${here})) as records
     order by ${name}, record_key limit ?`,
    [
      typeId,
      boundArray(tail.keys),
      ...bindings,
      limit + 1,
      boundArray(alive.map(([key]) => key)),
      boundArray(alive.map(([, { label }]) => label)),
      ...bindings,
      limit + 1,
    ],
  )
  return rows
}

function parsedAfter(text: string): [label: string, key: string] {
  try {
    const read: unknown = JSON.parse(text)
    if (Array.isArray(read) && read.length === 2 && read.every((one) => typeof one === 'string'))
      return read as [string, string]
  } catch {
    // Said below.
  }
  throw new Problem('bad-request', 'This is no place in the list. Begin at its first page.')
}
