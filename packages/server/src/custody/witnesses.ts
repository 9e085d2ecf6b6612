import { createHash } from 'node:crypto'
import { constants } from 'node:fs'
import { access, open, rename } from 'node:fs/promises'
import { join } from 'node:path'
import type { Witness } from '@spoor/contract'
import { Problem } from '../errors.ts'
import type { Database } from '../database/knex.ts'
import type { Mailer } from '../mail/mailer.ts'
import type { TimeAuthority } from './authority.ts'

/** A seal as it is given. */
export interface GivenSeal {
  number: number
  note: string
  /** Which ledger it is of. */
  origin: string
}

/** Somebody or something that takes seals. */
export interface WitnessAtWork {
  kind: Witness['kind']
  /** Where, as people read it. */
  place: string
  /** Gives it a seal. @returns an authority's answer @throws Error where it was not taken */
  take(seal: GivenSeal): Promise<Uint8Array | null>
}

export function authorityWitness(authority: TimeAuthority): WitnessAtWork {
  return {
    kind: 'authority',
    place: authority.name,
    take: (seal) => authority.stamp(Buffer.from(seal.note)),
  }
}

/** A folder of a disk or a share that the database's administrators cannot write: each seal is a file of its own. */
export function folderWitness(folder: string): WitnessAtWork {
  return {
    kind: 'folder',
    place: folder,
    async take({ number, note, origin }) {
      await access(folder, constants.W_OK)
      // Several ledgers may give to one folder, and what stands there is never written over.
      const ledger = createHash('sha256').update(origin).digest('hex').slice(0, 8)
      const path = join(folder, `seal-${ledger}-${String(number).padStart(9, '0')}.txt`)
      const handle = await open(`${path}.part`, 'w', 0o644)
      try {
        await handle.writeFile(note)
        await handle.sync()
      } finally {
        await handle.close()
      }
      await rename(`${path}.part`, path)
      return null
    },
  }
}

const waitMs = 15_000

/** An address that takes each seal as the body of a POST. */
export function addressWitness(url: string): WitnessAtWork {
  const { origin, pathname } = new URL(url)
  return {
    kind: 'address',
    place: `${origin}${pathname}`,
    async take({ note }) {
      const { username, password, ...rest } = partsOf(url)
      const response = await fetch(rest.url, {
        method: 'POST',
        headers: {
          'content-type': 'text/plain; charset=utf-8',
          ...(username === '' && password === ''
            ? {}
            : { authorization: `Basic ${Buffer.from(`${username}:${password}`).toString('base64')}` }),
        },
        body: note,
        signal: AbortSignal.timeout(waitMs),
        redirect: 'error',
      })
      await response.body?.cancel()
      if (!response.ok) throw new Error(`it answered ${response.status}`)
      return null
    },
  }
}

function partsOf(given: string): { url: string; username: string; password: string } {
  const url = new URL(given)
  const [username, password] = [decodeURIComponent(url.username), decodeURIComponent(url.password)]
  url.username = ''
  url.password = ''
  return { url: url.href, username, password }
}

/** Somebody's mail, in which a seal is kept outside by itself. */
export function mailWitness(mailer: Mailer, to: string): WitnessAtWork {
  return {
    kind: 'mail',
    place: to,
    async take({ number, note, origin }) {
      await mailer.send({
        to,
        subject: `Seal ${number} of the ledger ${origin}`,
        text: [
          'Keep this message. With the text below, anybody can tell later whether a save of this ledger from before it was',
          'changed or taken away. It holds no values of any record.',
          '',
          note,
        ].join('\n'),
      })
      return null
    },
  }
}

const rows = (db: Database) =>
  db('spoor.witness as w')
    .joinRaw(
      `left join lateral (select t.seal_number, t.at, t.answer is not null as stamped from spoor.witnessed t
         where t.witness_id = w.id order by t.seal_number desc limit 1) as last on true`,
    )
    .orderByRaw('w.ended_at is not null, w.id')
    .select('w.id', 'w.kind', 'w.place', 'w.since', 'w.ended_at', 'w.tried_at', 'w.failures', 'w.trouble', 'w.wanted')
    .select('last.seal_number', 'last.at as last_at', 'last.stamped')
    .select<WitnessRow[]>(db.raw('(select count(*)::int from spoor.witnessed t where t.witness_id = w.id) as taken'))

export interface WitnessRow {
  id: number
  kind: Witness['kind']
  place: string
  since: string
  ended_at: string | null
  tried_at: string | null
  failures: number
  trouble: string | null
  wanted: boolean
  seal_number: string | null
  last_at: string | null
  stamped: boolean | null
  taken: number
}

/** Everybody who is or was given seals. */
export async function witnessRows(db: Database): Promise<WitnessRow[]> {
  return await rows(db)
}

export async function listWitnesses(db: Database): Promise<Witness[]> {
  return (await rows(db)).map((row) => ({
    id: row.id,
    kind: row.kind,
    place: row.kind === 'folder' ? lastParts(row.place) : row.place,
    since: row.since,
    endedAt: row.ended_at,
    last:
      row.seal_number === null
        ? null
        : { number: Number(row.seal_number), at: row.last_at!, stamped: row.stamped === true },
    taken: row.taken,
    trouble: row.trouble === null ? null : { words: row.trouble, at: row.tried_at!, tries: row.failures },
  }))
}

/** Where on the server's disks a folder is, is nobody's matter who reads of it: its name and that of the one it is in. */
function lastParts(folder: string): string {
  const parts = folder.split('/').filter(Boolean)
  return parts.length <= 2 ? folder : `…/${parts.slice(-2).join('/')}`
}

/** What is set at start is what there is: a witness that is not set any more is ended and stays told of. */
export async function setWitnesses(db: Database, witnesses: readonly Pick<WitnessAtWork, 'kind' | 'place'>[]) {
  await db.transaction(async (trx) => {
    await trx.raw(`select pg_advisory_xact_lock(hashtext('spoor.witness'))`)
    for (const { kind, place } of witnesses)
      await trx('spoor.witness').insert({ kind, place }).onConflict(['kind', 'place']).merge({ ended_at: null })
    const set = witnesses.map(({ kind, place }) => `${kind} ${place}`)
    await trx('spoor.witness')
      .whereNull('ended_at')
      .whereRaw(`(kind || ' ' || place) <> all(?::text[])`, [set])
      .update({ ended_at: trx.fn.now() })
  })
}

/** Has every witness given the latest seal at the next look. */
export async function wantWitnessed(db: Database): Promise<void> {
  await db('spoor.witness').whereNull('ended_at').update({ wanted: true })
}

/** The answer by which an authority stamped a seal. @throws Problem where there is none */
export async function stampOf(db: Database, sealNumber: number): Promise<Buffer> {
  const row = await db('spoor.witnessed')
    .where({ seal_number: String(sealNumber) })
    .whereNotNull('answer')
    .first<{ answer: Buffer } | undefined>('answer')
  if (!row) throw new Problem('not-found', `Seal ${sealNumber} bears no time-stamp.`)
  return row.answer
}
