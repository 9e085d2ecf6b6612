import { matches, valueKind, type ActorKind, type RecordRef, type Scope, type ScopedChange } from '@spoor/core'
import type { Change, Save, SavePage, SaveSort } from '@spoor/contract'
import { boundArray, isAfter, type Database } from '../database/knex.ts'
import { maskedFields } from './masked.ts'
import { isLimited, reachIn } from './reach.ts'
import { changePlace, noRemarks, remarksOn, setBackBy, type Remarks } from './remarks.ts'
import { historyOf, type History } from './scope-sql.ts'
import { referencesIn } from './references.ts'
import { savesIn } from './in-scope.ts'
import { namesRuns, pageTogether, runLines } from './run-lines.ts'
import { byTime, sortedSaves, type Found, type Page } from './sorted.ts'

/** Longer values come cut in lists; the opened save has them whole. */
const listValueLength = 300

export interface SaveRow extends Remarks {
  id: string
  captured_at: string
  source_id: number
  type_id: number
  record_key: string
  label: string
  action: Save['action']
  actor_id: number
  actor_name: string
  actor_kind: ActorKind
  actor_unit: string | null
  actor_left_on: string | null
  claimed: boolean
  on_behalf_of: string | null
  channel: string
  run: string | null
  reason: string | null
  correction_id: number | null
  run_id: string
  parent_type_id: number | null
  parent_key: string | null
  parent_label: string | null
  known_as: string | null
}

export interface PageRequest {
  /** `<captured_at>_<id>` of the last save already shown. */
  after: string | undefined
  limit: number
  nowMs: number
  sort?: SaveSort
  descending?: boolean
  /** The saves of a long run stand in one line, where its newest stands; only with the newest first. */
  together?: boolean
}

/** One page of the saves that all scopes mean: by time and keyset, or in another order. */
export async function savePage(db: Database, scopes: readonly Scope[], request: PageRequest): Promise<SavePage> {
  const { nowMs } = request
  const { heads, ...found } = await foundPage(db, scopes, request)
  const [[rows, changes], runs] = await Promise.all([
    rowsWithChanges(db, found.rows, { valueLength: listValueLength, scopes, nowMs }),
    runLines(db, heads, scopes, nowMs),
  ])
  return {
    saves: rows.map((row) => saveShown(row, changes.get(row.id) ?? [], reachIn(scopes))),
    runs,
    references: await referencesIn(db, scopes, [...changes.values()].flat()),
    next: found.next,
  }
}

async function foundPage(
  db: Database,
  scopes: readonly Scope[],
  { after, limit, nowMs, sort = 'time', descending = true, together = false }: PageRequest,
): Promise<Page & { heads: Map<string, number> }> {
  const byNewest = sort === 'time' && descending
  if (together && byNewest && !scopes.some(namesRuns)) return await pageTogether(db, scopes, { after, limit, nowMs })
  const [query, columns] = savesIn(db, scopes, nowMs)
  const page =
    sort === 'time'
      ? await byTime(query, columns, { after, limit, descending })
      : await sortedSaves(db, query, sort, { after, limit, descending })
  return { ...page, heads: new Map() }
}

/** What is told of a save `s`, of its actor and its parent; a {@link SaveRow}. */
export const toldColumns = `s.id, s.captured_at, s.source_id, s.type_id, s.record_key, s.label, s.action, s.actor_id, s.actor_kind,
    s.claimed, s.on_behalf_of, s.channel, s.run, s.reason, s.correction_id, s.run_id, s.parent_type_id, s.parent_key,
    a.name as actor_name, coalesce(k.unit, a.unit) as actor_unit, coalesce(k.left_on, a.left_on)::text as actor_left_on,
    k.name as known_as, p.label as parent_label`
export const toldJoin = `join spoor.actor a on a.id = s.actor_id left join spoor.actor k on k.id = a.same_as
       left join spoor.record p on p.type_id = s.parent_type_id and p.record_key = s.parent_key`

/** First and last time among some rows: said outright it spares the planner all other months. */
function spellOf(rows: readonly { captured_at: string }[]): [string, string] {
  const times = rows.map((row) => row.captured_at)
  const earliest = times.reduce((least, at) => (isAfter(least, at) ? at : least))
  return [earliest, times.reduce((most, at) => (isAfter(at, most) ? at : most))]
}

/** Saves by time and id, in the order in which they are asked for. */
export async function saveRows(db: Database, page: readonly { captured_at: string; id: string }[]): Promise<SaveRow[]> {
  if (page.length === 0) return []
  const ids = page.map((row) => row.id)
  const reading = db.raw<{ rows: Omit<SaveRow, keyof Remarks>[] }>(
    `select ${toldColumns}
       from unnest(?::timestamptz[], ?::bigint[]) with ordinality as wanted(captured_at, id, place)
       join ledger.save s on s.captured_at = wanted.captured_at and s.id = wanted.id
       ${toldJoin}
      where s.captured_at between ? and ?
      order by wanted.place`,
    [boundArray(page.map((row) => row.captured_at)), boundArray(ids), ...spellOf(page)],
  )
  const [{ rows }, remarks] = await Promise.all([reading, remarksOn(db, ids)])
  return rows.map((row) => Object.assign(row, remarks.get(row.id) ?? noRemarks))
}

interface ChangeRow {
  save_id: string
  field_id: number
  before: string | null
  after: string | null
  before_cut: boolean
  after_cut: boolean
  base_type: string
  erased: boolean
}

export interface ChangesWanted {
  /** Null gives values whole. */
  valueLength: number | null
  /** What was asked, then what may be seen at most: changes outside that are left out. */
  scopes: readonly Scope[]
  nowMs: number
}

/** Saves by time and id with their changes, both read at once. */
export async function rowsWithChanges(
  db: Database,
  page: readonly Found[],
  wanted: ChangesWanted,
): Promise<[SaveRow[], Map<string, Change[]>]> {
  const rows = saveRows(db, page)
  return await Promise.all([rows, changesOf(db, page, rows, wanted)])
}

/**
 * Whether a text has more characters than a limit, bound twice. How many bytes it has is known without fetching it, and no
 * character has more than four.
 */
const isLonger = (text: string) =>
  `coalesce(case when octet_length(${text}) > 4 * ?::bigint then true else length(${text}) > ? end, false)`

/** The changes of some saves by save id. @param known the saves themselves, which may still be on their way */
export async function changesOf(
  db: Database,
  page: readonly Found[],
  known: Promise<readonly SaveRow[]> | readonly SaveRow[],
  { valueLength, scopes, nowMs }: ChangesWanted,
): Promise<Map<string, Change[]>> {
  const bySave = new Map<string, Change[]>()
  if (page.length === 0) return bySave
  // A condition on values is decided by the whole value, whatever is shown of it.
  const whole = valueLength === null || scopes.some((scope) => scope.value !== undefined)
  const limit = whole ? 1_000_000_000 : valueLength
  const ids = page.map((save) => save.id)
  const reading = db.raw<{ rows: ChangeRow[] }>(
    `select c.save_id, c.field_id, left(c.before, ?) as before, left(c.after, ?) as after,
            ${isLonger('c.before')} as before_cut, ${isLonger('c.after')} as after_cut,
            f.base_type, c.erased
       from unnest(?::timestamptz[], ?::bigint[]) as wanted(captured_at, id)
       join ledger.change c on c.captured_at = wanted.captured_at and c.save_id = wanted.id
       join spoor.field f on f.id = c.field_id
      where c.captured_at between ? and ?
      order by c.save_id, c.field_id`,
    [
      limit,
      limit,
      ...[limit, limit, limit, limit],
      boundArray(page.map((save) => save.captured_at)),
      boundArray(ids),
      ...spellOf(page),
    ],
  )
  const [{ rows }, masked, saves, reverted] = await Promise.all([reading, maskedFields(db), known, setBackBy(db, ids)])
  const byId = new Map(saves.map((save) => [save.id, save]))
  const history = await historyOf(db, saves, scopes)
  const [asked = {}, ...limits] = scopes
  const narrowing = limits.filter(isLimited)
  const isAnyAsked = !isLimited(asked)
  const cut = (value: string | null) => (value === null || valueLength === null ? value : value.slice(0, valueLength))
  const isCut = (value: string | null) => valueLength !== null && (value?.length ?? 0) > valueLength
  for (const row of rows) {
    const save = byId.get(row.save_id)!
    const revertedBy = reverted.get(changePlace(row.save_id, row.field_id)) ?? null
    let inScope = true
    if (narrowing.length > 0 || !isAnyAsked) {
      const scoped = scopedChange(save, row, revertedBy, history.get(row.save_id))
      if (!narrowing.every((scope) => matches(scope, scoped, nowMs))) continue
      inScope = matches(asked, scoped, nowMs)
    }
    let list = bySave.get(row.save_id)
    if (!list) bySave.set(row.save_id, (list = []))
    list.push({
      fieldId: row.field_id,
      erased: row.erased,
      ...(masked.has(row.field_id)
        ? { before: null, after: null, beforeCut: false, afterCut: false, masked: true }
        : {
            before: cut(row.before),
            after: cut(row.after),
            beforeCut: row.before_cut || isCut(row.before),
            afterCut: row.after_cut || isCut(row.after),
            masked: false,
          }),
      inScope,
      revertedBy,
    })
  }
  return bySave
}

/** What other saves tell of one that none was asked about. */
const noHistory: Omit<History, 'held'> = { restored: false, effectiveOn: null, transactionOf: [], cases: [] }

/** A change as scopes are matched against it. */
function scopedChange(
  save: SaveRow,
  row: ChangeRow,
  revertedBy: number | null,
  history: History | typeof noHistory = noHistory,
): ScopedChange {
  return {
    actorId: save.actor_id,
    actorKind: save.actor_kind,
    typeId: save.type_id,
    fieldId: row.field_id,
    key: save.record_key,
    parent: parentOf(save),
    atMs: Date.parse(save.captured_at),
    action: save.action,
    channel: save.channel,
    runId: Number(save.run_id),
    before: row.before,
    after: row.after,
    erased: row.erased,
    isNumber: valueKind(row.base_type) === 'number',
    reason: save.reason,
    ...history,
    stories: save.stories,
    states: [
      ...save.marks,
      ...(revertedBy === null ? [] : (['reverted'] as const)),
      ...(save.correction_id === null ? [] : (['correction'] as const)),
    ],
  }
}

/** The record whose line a row is, if it is one. */
export function parentOf({
  parent_type_id: typeId,
  parent_key: key,
}: Pick<SaveRow, 'parent_type_id' | 'parent_key'>): RecordRef | null {
  return typeId !== null && key !== null ? { typeId, key } : null
}

/** A save as it is shown; whoever has a limited reach is told nothing that comes from elsewhere than the save. */
export function saveShown(row: SaveRow, changes: Change[], reach: Scope): Save {
  const parent = parentOf(row)
  const limited = isLimited(reach)
  return {
    id: row.id,
    at: row.captured_at,
    typeId: row.type_id,
    key: row.record_key,
    label: row.label,
    parent: parent && { ...parent, label: (limited ? null : row.parent_label) ?? parent.key },
    action: row.action,
    actor: {
      id: row.actor_id,
      name: row.actor_name,
      kind: row.actor_kind,
      unit: row.actor_unit,
      leftOn: row.actor_left_on,
      claimed: row.claimed,
      knownAs: row.known_as,
    },
    onBehalfOf: row.on_behalf_of,
    channel: row.channel,
    run: row.run,
    reason: row.reason,
    correctionId: row.correction_id,
    marks: limited ? [] : row.marks,
    changes,
  }
}
