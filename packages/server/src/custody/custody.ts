import { inclusionProof, keyFingerprint, readKeyLine, toHex } from '@spoor/core'
import type { Check, Custody, Place, Seal } from '@spoor/contract'
import { listAlarms } from '../alarms/alarms.ts'
import { maskedFields } from '../ledger/masked.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { CheckRow } from './checking.ts'
import { recompute } from './recompute.ts'
import { latestSeal, type SealRow } from './sealer.ts'
import { sha256 } from '../ledger/sha256.ts'
import { extentOf, Tree } from './tree.ts'

const sealsAtOnce = 100

const checks = (db: Database) =>
  db('spoor.ledger_check as c')
    .leftJoin('spoor.person as p', 'p.id', 'c.asked_by')
    .leftJoin('spoor.job as j', 'j.id', 'c.job_id')
    .orderBy('c.id', 'desc')
    .select('c.*', 'p.name as by', 'j.done')

const checkShown = (row: (CheckRow & { by: string | null; done: string | null }) | undefined): Check | null =>
  row === undefined
    ? null
    : {
        id: row.id,
        beganAt: row.began_at,
        endedAt: row.ended_at,
        by: row.by,
        done: Number(row.done ?? 0),
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
  const codes = ['ledger-altered'] as const
  const { alarms } = await listAlarms(db, { settled: false, codes })
  const { count: settled } = await listAlarms(db, { settled: true, codes })
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
    mismatches: alarms,
    settled,
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
