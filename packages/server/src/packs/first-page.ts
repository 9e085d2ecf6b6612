import type { PackPreview, Summary } from '@spoor/contract'
import { sightOf } from '@spoor/contract'
import {
  clockWords,
  coverHeading,
  keyFingerprint,
  parseScope,
  readCheckpoint,
  readKeyLine,
  readNote,
  sentence,
  sentenceText,
  type PackCover,
  type Scope,
} from '@spoor/core'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { summarise } from '../changes/queries/summary.ts'
import { latestSeal } from '../custody/sealer.ts'
import type { SignedIn } from '../http/bind.ts'
import { changesIn } from '../ledger/in-scope.ts'
import { whereScopes } from '../ledger/scope-sql.ts'
import { isLimited, reachIn } from '../ledger/reach.ts'
import { heldNames, namesIn, scopeWords } from '../ledger/scope-words.ts'
import { sha256 } from '../ledger/sha256.ts'
import type { PackedSeal } from './saves.ts'

/** What is asked for, as far as the first page tells of it. */
export interface PackWish {
  title: string
  why: string
  scope: string
  zone: string
}

/** Which key and seal a pack is made under. */
export async function sealedUnder(db: Knex): Promise<{ seal: PackedSeal | null; keyLine: string | null }> {
  const seal = await latestSeal(db)
  const key = await db('ledger.signing_key').orderBy('number', 'desc').first<{ line: string } | undefined>('line')
  return { seal: seal ? { note: seal.note, size: Number(seal.size) } : null, keyLine: key?.line ?? null }
}

/**
 * What the ledger says of it: everything on the first page but what has to be counted while it is written.
 * @param moment sees what is put into the pack, and nothing that came since
 */
export async function firstPage(
  { db, moment }: { db: Database; moment: Knex },
  { title, why, scope: text, zone }: PackWish,
  { person, scopes, nowMs }: { person: SignedIn; scopes: readonly Scope[]; nowMs: number },
): Promise<Omit<PackCover, 'number' | 'authority' | 'closed' | 'unsealed' | 'files'>> {
  const { scope } = parseScope(new URLSearchParams(text))
  const [summary, names, called, holds] = await Promise.all([
    summarise(db, scopes, nowMs),
    namesIn(db, scope),
    isLimited(reachIn(scopes)) ? {} : heldNames(db, scope),
    whatItHolds(moment, scopes, nowMs),
  ])
  const { seal, keyLine } = await sealedUnder(moment)
  const { recordLabels, runLabels, storyLabels, caseLabels } = summary
  const words = sentence(scope, {
    ...names,
    ...called,
    record: ({ typeId, key }) => recordLabels[`t${typeId}:${key}`],
    run: (id) => runLabels[String(id)],
    story: (id) => storyLabels[String(id)],
    case: (id) => caseLabels[String(id)],
  })
  const note = seal && readNote(seal.note)
  const checkpoint = note && readCheckpoint(note.text)
  const key = keyLine === null ? null : readKeyLine(sha256, keyLine)
  return {
    spoor: coverHeading,
    title,
    why,
    madeBy: person.name,
    madeAt: new Date(nowMs).toISOString(),
    zone,
    scope: text,
    sentence: sentenceText(words),
    within: sightOf(person.role) === 'scope' ? await scopeWords(db, person.reach ?? '') : null,
    holds,
    gaps: await gapWords(db, summary.gaps, zone),
    seal: checkpoint && { origin: checkpoint.origin, at: checkpoint.at, size: checkpoint.size },
    fingerprint: key && keyFingerprint(sha256, key),
  }
}

async function whatItHolds(db: Knex, scopes: readonly Scope[], nowMs: number): Promise<PackCover['holds']> {
  const meant = db('ledger.change as r').select(
    'r.captured_at',
    'r.save_id',
    'r.type_id',
    'r.record_key',
    'r.actor_id',
    'r.actor_kind',
  )
  whereScopes(meant, scopes, 'change', 'r', nowMs)
  const { rows } = await db.raw<{
    rows: {
      changes: string
      saves: string
      records: string
      people: string
      others: string
      first: string | null
      last: string | null
    }[]
  }>(
    `with m as (?)
     select count(*) as changes, count(distinct m.save_id) as saves, count(distinct (m.type_id, m.record_key)) as records,
            count(distinct m.actor_id) filter (where m.actor_kind = 'person') as people,
            count(distinct m.actor_id) filter (where m.actor_kind <> 'person') as others,
            min(m.captured_at) as first, max(m.captured_at) as last
       from m`,
    [meant],
  )
  const { first, last, ...counts } = rows[0]!
  const numbers = Object.fromEntries(Object.entries(counts).map(([name, count]) => [name, Number(count)]))
  return { ...(numbers as Record<keyof typeof counts, number>), first, last }
}

async function gapWords(db: Knex, gaps: Summary['gaps'], zone: string): Promise<string[]> {
  const fields = await namesOfFields(
    db,
    gaps.map(({ fieldId }) => fieldId),
  )
  return gaps.map(({ fieldId, from, to, because }) => {
    const spell =
      to === null ? `since ${clockWords(from, zone)}` : `from ${clockWords(from, zone)} to ${clockWords(to, zone)}`
    return `${fields.get(fieldId)!}, ${spell}${because === null ? '' : `: ${because}`}`
  })
}

/** "bank account of contractors", by field. */
export async function namesOfFields(db: Knex, ids: readonly number[]): Promise<Map<number, string>> {
  const rows = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .whereIn('f.id', [...ids])
    .select<{ id: number; name: string; plural: string }[]>('f.id', 'f.name', 't.plural')
  return new Map(rows.map(({ id, name, plural }) => [id, `${name} of ${plural}`]))
}

/** The fields of which there are changes, the most first. */
export async function fieldsIn(
  db: Knex,
  scopes: readonly Scope[],
  nowMs: number,
  masked: ReadonlySet<number>,
): Promise<PackPreview['fields']> {
  const { rows } = await db.raw<{ rows: { field_id: number; name: string; plural: string; changes: string }[] }>(
    `with meant as (?)
     select f.id as field_id, f.name, t.plural, count(*) as changes
       from meant m join spoor.field f on f.id = m.field_id join spoor.record_type t on t.id = f.type_id
      group by 1, 2, 3 order by 4 desc, 1`,
    [changesIn(db, scopes, nowMs)],
  )
  return rows.map(({ field_id: fieldId, name, plural, changes }) => ({
    fieldId,
    name,
    type: plural,
    changes: Number(changes),
    masked: masked.has(fieldId),
  }))
}
