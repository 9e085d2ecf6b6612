import { existsSync, renameSync } from 'node:fs'
import { join } from 'node:path'
import {
  joinBytes,
  keyId,
  keyLine,
  readKeyLine,
  readNote,
  signatureBy,
  signedNote,
  toBase64,
  type NoteKey,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { recordEvent } from '../ledger/events.ts'
import { originOf } from './sealer.ts'
import { sha256 } from '../ledger/sha256.ts'
import { signatureHolds, SigningKey } from './signing-key.ts'

/** What a hand-over says (docs/proof.md, rule 11). */
function handOverText(origin: string, oldLine: string, newLine: string, at: string): string {
  return `${origin}\nhand-over\nold ${oldLine}\nnew ${newLine}\ntime ${at}\n`
}

/**
 * Replaces the signing key: the new one is vouched for by the old, and both sign that. Servers have to be stopped, since
 * a running one has the old key.
 * @throws Problem when the key in the data directory is not the one in use
 */
export async function handOver(db: Database, dataDir: string): Promise<{ line: string }> {
  const origin = await originOf(db)
  const old = SigningKey.open(dataDir)
  const fresh = SigningKey.make(dataDir, 'signing-key.next.pem')
  const [oldKey, newKey] = [old.named(origin), fresh.named(origin)]
  const [oldLine, line] = [keyLine(sha256, oldKey), keyLine(sha256, newKey)]
  await db.transaction(async (trx) => {
    const known = await trx('ledger.signing_key')
      .orderBy('number', 'desc')
      .first<{ number: number; line: string } | undefined>('number', 'line')
    if (known?.line !== oldLine)
      throw new Problem('rule-broken', 'The key in the data directory is not the one that seals. Nothing was changed.')
    const text = handOverText(origin, oldLine, line, new Date().toISOString())
    const note = `${signedNote(sha256, text, oldKey, old.sign(text))}\u2014 ${origin} ${toBase64(joinBytes(keyId(sha256, newKey), fresh.sign(text)))}\n`
    await trx('ledger.signing_key').insert({ number: known.number + 1, since: trx.fn.now(), line, note })
    await recordEvent(trx, { kind: 'custody', personId: null, words: 'handed the sealing over to a new key' })
  })
  // A stop before this leaves the next key beside the old one; the start takes it up.
  takeUpNextKey(dataDir)
  return { line }
}

/** Puts the key that was handed over to in its place. */
function takeUpNextKey(dataDir: string): void {
  renameSync(
    join(dataDir, 'signing-key.pem'),
    join(dataDir, `signing-key.until-${new Date().toISOString().replace(/[:.]/g, '-')}.pem`),
  )
  renameSync(join(dataDir, 'signing-key.next.pem'), join(dataDir, 'signing-key.pem'))
}

/** Ends a hand-over that was written down and whose key was not put in its place before a stop. */
export async function finishHandOver(db: Database, dataDir: string): Promise<void> {
  if (!existsSync(join(dataDir, 'signing-key.next.pem'))) return
  const known = await db('ledger.signing_key').orderBy('number', 'desc').first<{ line: string } | undefined>('line')
  const next = SigningKey.make(dataDir, 'signing-key.next.pem').named(await originOf(db))
  if (known?.line === keyLine(sha256, next)) takeUpNextKey(dataDir)
}

/** The keys that seals may be signed with, as far as each is vouched for by the one before. */
export async function vouchedKeys(db: Knex, origin: string): Promise<{ keys: NoteKey[]; whole: boolean }> {
  const rows = await db('ledger.signing_key')
    .orderBy('number')
    .select<{ number: number; line: string; note: string | null }[]>('number', 'line', 'note')
  const keys: NoteKey[] = []
  for (const [at, row] of rows.entries()) {
    const key = readKeyLine(sha256, row.line)
    const before = keys.at(-1)
    if (!key || row.number !== at + 1 || (before && !vouches(origin, before, key, row.note)))
      return { keys, whole: false }
    keys.push(key)
  }
  return { keys, whole: true }
}

function vouches(origin: string, before: NoteKey, key: NoteKey, noteText: string | null): boolean {
  const note = noteText === null ? null : readNote(noteText)
  if (!note) return false
  const at = /\ntime (\S+)\n$/.exec(note.text)?.[1] ?? ''
  if (note.text !== handOverText(origin, keyLine(sha256, before), keyLine(sha256, key), at)) return false
  return [before, key].every((one) => {
    const signature = signatureBy(sha256, note, one)
    return signature !== null && signatureHolds(one, note.text, signature)
  })
}
