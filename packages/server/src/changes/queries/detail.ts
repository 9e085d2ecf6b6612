import type { Afterwards, Change, SaveDetail } from '@spoor/contract'
import type { Scope } from '@spoor/core'
import type { Database } from '../../database/knex.ts'
import { guardsOfSave } from '../../guards/store.ts'
import { whereScope } from '../../ledger/scope-sql.ts'
import { isLimited } from '../../ledger/reach.ts'
import { maskedFields } from '../../ledger/masked.ts'
import { referencesOf } from '../../ledger/references.ts'
import { noRemarks, remarksOn, type Remarks } from '../../ledger/remarks.ts'
import { changesOf, saveShown, toldColumns, toldJoin, type SaveRow } from '../../ledger/saves.ts'

/** Longer values are told by their beginning, the shorter the more of them there are; {@link changeValues} has them whole. */
const [mostOpened, leastOpened, openedInAll] = [20_000, 2000, 60_000]

/** What an opened save tells beyond those of a list. */
interface OpenedRow extends SaveRow {
  db_login: string
  application_name: string | null
  client_address: string | null
  transaction_id: string
  plan_version: number
  change_count: number
}

const openedColumns = `s.db_login, s.application_name, s.client_address, s.transaction_id, s.plan_version,
  (select count(*)::int from ledger.change c where c.save_id = s.id and c.captured_at = s.captured_at) as change_count`

/** One save with everything known of it, or null when there is none within the person's reach. */
export async function saveDetail(
  db: Database,
  saveId: string,
  reach: Scope,
  nowMs: number,
): Promise<SaveDetail | null> {
  const query = db('ledger.save as s').joinRaw(toldJoin).where('s.id', saveId)
  whereScope(query, reach, 'save', 's', nowMs)
  const told = (await query.first(db.raw(toldColumns), db.raw(openedColumns))) as
    Omit<OpenedRow, keyof Remarks> | undefined
  if (!told) return null
  const row: OpenedRow = { ...told, ...((await remarksOn(db, [saveId])).get(saveId) ?? noRemarks) }
  const values = 2 * Math.max(1, row.change_count)
  const valueLength = Math.max(leastOpened, Math.min(mostOpened, Math.floor(openedInAll / values)))
  const [changes, afterwards, trackedSince, neighbours, login, transaction] = await Promise.all([
    changesOf(db, [row], [row], { valueLength, scopes: [{}, reach], nowMs }),
    afterwardsOf(db, row, reach, nowMs),
    trackedSinceOf(db, row),
    neighboursOf(db, row, reach, nowMs),
    db('spoor.source_login')
      .where({ source_id: row.source_id, login: row.db_login })
      .first<{ may_declare: boolean } | undefined>('may_declare'),
    inTransaction(db, row, reach, nowMs),
  ])
  const own = changes.get(row.id) ?? []
  const limited = isLimited(reach)
  const [sizes, run, references, guards, nameThen] = await Promise.all([
    sizesOf(db, row, own),
    runOf(db, row, reach, nowMs),
    // Whoever sees a part only is not told what records outside it are called.
    limited ? [] : referencesOf(db, own),
    // What guards say is said of the type as a whole: to whoever sees all of it.
    limited ? [] : guardsOfSave(db, row),
    nameThenOf(db, row),
  ])
  return {
    save: saveShown(row, own, reach),
    sizes,
    dbLogin: row.db_login,
    mayDeclare: login?.may_declare ?? false,
    applicationName: row.application_name,
    clientAddress: row.client_address,
    transaction: row.transaction_id,
    planVersion: row.plan_version,
    savesInTransaction: transaction,
    run,
    trackedSince: limited ? ofFields(trackedSince, own) : trackedSince,
    afterwards,
    references,
    guards,
    nameThen,
    ...neighbours,
  }
}

/** How large the values are that are told by their beginning: in bytes, which are known without fetching them. */
async function sizesOf(db: Database, save: SaveRow, changes: readonly Change[]): Promise<SaveDetail['sizes']> {
  const cut = changes.filter((change) => change.beforeCut || change.afterCut).map((change) => change.fieldId)
  if (cut.length === 0) return {}
  const rows = await db('ledger.change')
    .where({ save_id: save.id, captured_at: save.captured_at })
    .whereIn('field_id', cut)
    .select<{ field_id: number; before: number | null; after: number | null }[]>(
      'field_id',
      db.raw('octet_length(before) as before'),
      db.raw('octet_length(after) as after'),
    )
  return Object.fromEntries(rows.map(({ field_id, before, after }) => [String(field_id), { before, after }]))
}

/** What is told of fields, of those alone of which there are changes. */
function ofFields(told: Record<string, string>, changes: readonly Change[]): Record<string, string> {
  const seen = new Set(changes.map(({ fieldId }) => String(fieldId)))
  return Object.fromEntries(Object.entries(told).filter(([fieldId]) => seen.has(fieldId)))
}

interface LaterRow {
  field_id: number
  times: string
  save_id: string
  captured_at: string
  actor_name: string
  action: SaveDetail['save']['action']
  after: string | null
  back: boolean
}

/** What happened to the save's fields in the same record after it. */
async function afterwardsOf(db: Database, save: SaveRow, reach: Scope, nowMs: number): Promise<Afterwards[]> {
  const later = db('ledger.change as c')
    .where({ 'c.type_id': save.type_id, 'c.record_key': save.record_key })
    .where('c.captured_at', '>=', save.captured_at)
    .whereRaw('(c.captured_at, c.save_id) > (?::timestamptz, ?::bigint)', [save.captured_at, save.id])
    .select(
      'c.field_id',
      'c.save_id',
      'c.captured_at',
      db.raw('left(c.after, ?) as after', [leastOpened]),
      db.raw('c.after as whole_after'),
      'c.erased',
      db.raw('count(*) over (partition by c.field_id) as times'),
      db.raw('row_number() over (partition by c.field_id order by c.captured_at desc, c.save_id desc) as place'),
    )
  whereScope(later, reach, 'change', 'c', nowMs)
  const rows: LaterRow[] = await db
    .with('later', later)
    .from('later as l')
    .join('ledger.save as s', (on) => on.on('s.id', 'l.save_id').andOn('s.captured_at', 'l.captured_at'))
    .join('spoor.actor as a', 'a.id', 's.actor_id')
    .leftJoin('ledger.change as mine', (on) =>
      on
        .on('mine.field_id', 'l.field_id')
        .andOnVal('mine.save_id', save.id)
        .andOnVal('mine.captured_at', save.captured_at),
    )
    .where('l.place', 1)
    .select(
      'l.field_id',
      'l.times',
      'l.save_id',
      'l.captured_at',
      'l.after',
      's.action',
      'a.name as actor_name',
      db.raw('(mine.erased is not true and not l.erased and mine.before is not distinct from l.whole_after) as back'),
    )
  const masked = await maskedFields(db)
  return rows.map((row) => ({
    fieldId: row.field_id,
    times: Number(row.times),
    latest: {
      saveId: row.save_id,
      at: row.captured_at,
      actorName: row.actor_name,
      after: masked.has(row.field_id) ? null : row.after,
      action: row.action,
      // Of a masked value it would tell what it is.
      backToBefore: row.back && !masked.has(row.field_id),
    },
  }))
}

async function runOf(db: Database, save: SaveRow, reach: Scope, nowMs: number): Promise<SaveDetail['run']> {
  const run = await db('ledger.run')
    .where({ id: save.run_id })
    .first<Pick<SaveDetail['run'], 'kind' | 'declared'> | undefined>('kind', 'declared')
  const query = db('ledger.save as s').where('s.run_id', save.run_id)
  whereScope(query, reach, 'save', 's', nowMs)
  const [row] = await query.count<{ count: string }[]>('* as count')
  return {
    id: save.run_id === null ? null : Number(save.run_id),
    kind: run?.kind ?? 'burst',
    declared: run?.declared ?? null,
    saves: Number(row?.count ?? 1),
  }
}

async function trackedSinceOf(db: Database, save: SaveRow): Promise<Record<string, string>> {
  const rows = await db('spoor.coverage as c')
    .join('spoor.field as f', 'f.id', 'c.field_id')
    .where('f.type_id', save.type_id)
    .where((q) => q.whereNull('c.to_at').orWhere('c.to_at', '>', save.captured_at))
    .orderBy('c.from_at', 'desc')
    .select<{ field_id: number; from_at: string }[]>('c.field_id', 'c.from_at')
  return Object.fromEntries(rows.map((row) => [row.field_id, row.from_at]))
}

async function neighboursOf(
  db: Database,
  save: SaveRow,
  reach: Scope,
  nowMs: number,
): Promise<Pick<SaveDetail, 'earlier' | 'later'>> {
  const beside = async (sign: '<' | '>') => {
    const query = db('ledger.save as s')
      .where({ 's.type_id': save.type_id, 's.record_key': save.record_key })
      .whereRaw(`(s.captured_at, s.id) ${sign} (?::timestamptz, ?::bigint)`, [save.captured_at, save.id])
    whereScope(query, reach, 'save', 's', nowMs)
    const order = sign === '<' ? 'desc' : 'asc'
    const row = await query
      .orderBy([
        { column: 's.captured_at', order },
        { column: 's.id', order },
      ])
      .first<{ id: string } | undefined>('s.id')
    return row?.id ?? null
  }
  const [earlier, later] = await Promise.all([beside('<'), beside('>')])
  return { earlier, later }
}

async function inTransaction(db: Database, save: OpenedRow, reach: Scope, nowMs: number): Promise<number> {
  const query = db('ledger.save as s').where({ 's.source_id': save.source_id, 's.transaction_id': save.transaction_id })
  whereScope(query, reach, 'save', 's', nowMs)
  const [row] = await query.count<{ count: string }[]>('* as count')
  return Number(row?.count ?? 0)
}

/** The name the actor had when the save was made, when it is another now. */
async function nameThenOf(db: Database, save: SaveRow): Promise<string | null> {
  const row = await db('spoor.former_name')
    .where({ actor_id: save.actor_id })
    .where('until_at', '>', save.captured_at)
    .orderBy('until_at')
    .first<{ name: string } | undefined>('name')
  return row?.name ?? null
}

type ValueSide = 'before' | 'after'

/** Sides of one field of a save as they are kept, masked or not; null when it has none within the reach. */
export async function changeValues<S extends ValueSide>(
  db: Database,
  { saveId, fieldId, sides }: { saveId: string; fieldId: number; sides: readonly S[] },
  reach: Scope,
  nowMs: number,
): Promise<Record<S, string | null> | null> {
  const query = db('ledger.save as s')
    .join('ledger.change as c', (on) => on.on('c.captured_at', 's.captured_at').andOn('c.save_id', 's.id'))
    .where({ 's.id': saveId, 'c.field_id': fieldId, 'c.erased': false })
  whereScope(query, reach, 'change', 'c', nowMs)
  const row = (await query.first(sides.map((side) => `c.${side}`))) as Record<S, string | null> | undefined
  return row ?? null
}
