import { inclusionProof, keyFingerprint, readKeyLine, toHex } from '@spoor/core'
import type { Check, Custody, MismatchShown, Place, Seal } from '@spoor/contract'
import { maskedFields } from '../changes/masked.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { rowOfPlace } from '../evidence/compare.ts'
import type { CheckRow } from './checking.ts'
import { recompute } from './recompute.ts'
import { latestSeal, type SealRow } from './sealer.ts'
import { sha256 } from './sha256.ts'
import { extentOf, Tree } from './tree.ts'

const mostListed = 200
const sealsAtOnce = 100

interface MismatchRow {
  id: number
  found_at: string
  words: string
  save_id: string | null
  field_id: number | null
  stored: string | null
  expected: string | null
  after_seal: string | null
  before_seal: string | null
  settled_by: string | null
  settled_at: string | null
  settled_why: string | null
}

const numberOf = (text: string | null) => (text === null ? null : Number(text))

function mismatchShown(row: MismatchRow): MismatchShown {
  return {
    id: row.id,
    at: row.found_at,
    words: row.words,
    saveId: row.save_id,
    fieldId: row.field_id,
    stored: row.stored,
    expected: row.expected,
    afterSeal: numberOf(row.after_seal),
    beforeSeal: numberOf(row.before_seal),
    settled:
      row.settled_at === null ? null : { by: row.settled_by ?? '', at: row.settled_at, why: row.settled_why ?? '' },
  }
}

const mismatches = (db: Database) =>
  db('spoor.mismatch as m')
    .leftJoin('spoor.person as p', 'p.id', 'm.settled_by')
    .select<MismatchRow[]>(
      'm.id',
      'm.found_at',
      'm.words',
      'm.save_id',
      'm.field_id',
      'm.stored',
      'm.expected',
      'm.after_seal',
      'm.before_seal',
      'p.name as settled_by',
      'm.settled_at',
      'm.settled_why',
    )

const checks = (db: Database) =>
  db('spoor.ledger_check as c')
    .leftJoin('spoor.person as p', 'p.id', 'c.asked_by')
    .orderBy('c.id', 'desc')
    .select('c.*', 'p.name as by')

const checkShown = (row: (CheckRow & { by: string | null }) | undefined): Check | null =>
  row === undefined
    ? null
    : {
        id: row.id,
        beganAt: row.began_at,
        endedAt: row.ended_at,
        by: row.by,
        done: Number(row.done),
        total: Number(row.total),
        found: row.found,
        trouble: row.trouble,
      }

/** How the ledger is kept. */
export async function readCustody(db: Database): Promise<Custody> {
  const { first, size } = await extentOf(db)
  const seal = await latestSeal(db)
  const key = await db('ledger.signing_key')
    .orderBy('number', 'desc')
    .first<{ line: string; since: string } | undefined>('line', 'since')
  const read = key && readKeyLine(sha256, key.line)
  const [settled] = await db('spoor.mismatch').whereNotNull('settled_at').count<{ count: string }[]>('* as count')
  return {
    saves: Number(first) - 1 + size,
    before: Number(first) - 1,
    open: size - Number(seal?.size ?? 0),
    seals: Number(seal?.number ?? 0),
    latest: seal ? sealOf(seal) : null,
    key: key
      ? { line: key.line, fingerprint: read ? keyFingerprint(sha256, read) : 'not readable', since: key.since }
      : null,
    check: checkShown(await checks(db).first()),
    lastWhole: checkShown(await checks(db).whereNotNull('c.ended_at').whereNull('c.trouble').first()),
    mismatches: (await mismatches(db).whereNull('m.settled_at').orderBy('m.id').limit(mostListed)).map(mismatchShown),
    settled: Number(settled?.count ?? 0),
  }
}

const sealOf = (seal: SealRow) => ({
  number: Number(seal.number),
  at: seal.sealed_at,
  size: Number(seal.size),
  note: seal.note,
})

export async function listSeals(
  db: Database,
  before: number | undefined,
): Promise<{ seals: Seal[]; next: number | null }> {
  const query = db<SealRow>('ledger.seal')
    .orderBy('number', 'desc')
    .limit(sealsAtOnce + 1)
  if (before !== undefined) void query.where('number', '<', before)
  const rows = await query
  const seals = rows.slice(0, sealsAtOnce).map((row, at) => ({
    number: Number(row.number),
    at: row.sealed_at,
    size: Number(row.size),
    added: Number(row.size) - Number(rows[at + 1]?.size ?? 0),
    events: Number(row.events),
  }))
  return { seals, next: rows.length > sealsAtOnce ? seals.at(-1)!.number : null }
}

export async function settleMismatch(db: Database, id: number, personId: number, why: string): Promise<MismatchShown> {
  await db.transaction(async (trx) => {
    const [settled] = await trx('spoor.mismatch')
      .where({ id, settled_at: null })
      .update({ settled_by: personId, settled_at: trx.fn.now(), settled_why: why })
      .returning<{ place: string }[]>('place')
    // Who wrote it is in the words of the alarm; the trace is not told again.
    const row = settled && rowOfPlace(settled.place)
    if (row) await trx('spoor.touched').where(row).delete()
  })
  const row = await mismatches(db).where('m.id', id).first()
  if (!row) throw new Problem('not-found', 'There is no such alarm.')
  return mismatchShown(row as MismatchRow)
}

/** Where a save is in the tree, with what proves it to somebody who has the key. */
export async function placeOf(db: Database, saveId: string): Promise<Place> {
  const [save] = await recompute(db, saveId, saveId)
  if (!save) throw new Problem('not-found', 'There is no such save.')
  const { first } = await extentOf(db)
  const masked = await maskedFields(db)
  const key = await db('ledger.signing_key').orderBy('number', 'desc').first<{ line: string } | undefined>('line')
  const index = BigInt(saveId) < first ? null : Number(BigInt(saveId) - first)
  const seal =
    index === null ? undefined : await db<SealRow>('ledger.seal').where('size', '>', index).orderBy('number').first()
  const proof = seal ? await new Tree(db, first).ask(inclusionProof(sha256, index!, Number(seal.size))) : []
  return {
    index,
    canonical: save.canonical,
    leaf: save.leaf,
    seal: seal ? sealOf(seal) : null,
    proof: proof.map(toHex),
    key: key?.line ?? null,
    openings: save.changes
      .filter(({ fieldId, erased }) => !erased && !masked.has(fieldId))
      .map(({ fieldId, salt, before, after }) => ({ fieldId, salt, before, after })),
  }
}
