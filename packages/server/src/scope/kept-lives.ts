import { setImmediate as breathe } from 'node:timers/promises'
import { absent, counted, type ActorKind, type Holding, type Life, type LifeSave, type LifeSpell } from '@spoor/core'
import type { Knex } from 'knex'
import { copyInto, copyLine } from '../database/copy.ts'
import { boundArray } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { KeySpan } from '../ledger/thread.ts'
import { readLives, recordId, type Reached, type ReadLife } from './lives.ts'
import { holdMark, markNow, markOf, setMark, touchedSince, type ReadingMark } from './reading-mark.ts'

/** A field of every record of a type, over all of time. */
export interface Lives {
  /** The key that each record has, or had last. */
  keys: string[]
  /** By the same place. */
  lives: Life[]
  /** Which record it is: the same for every field, where a key has been that of several. */
  ids: string[]
}

/** More spells are not held in memory while somebody waits. */
const mostSpells = 1_500_000
/** So many records are fetched in one go. */
const atOnce = 2500
/** So far behind the end of the ledger a reading may stay where nothing has touched the field. */
const mostBehind = 10_000

/**
 * Brings what is kept of a field up to all that the ledger has by now. The first time every record of the type is gone
 * through, later those that were touched.
 * @returns up to where it is read now
 * @throws Problem where it cannot be read
 */
export async function keepLives(
  trx: Knex.Transaction,
  typeId: number,
  fieldId: number,
  reached?: Reached,
): Promise<ReadingMark> {
  const read = await holdMark(trx, 'spoor.life', fieldId)
  // Whatever is saved from here on is read the next time.
  const now = await markNow(trx, typeId)
  const touched = await touchedSince(trx, typeId, fieldId, read, now)
  if (touched?.length === 0) {
    if (BigInt(now.read_save) - BigInt(read.read_save) < mostBehind) return { ...now, read_save: read.read_save }
  } else {
    const gone = trx('spoor.life').where({ field_id: fieldId })
    if (touched) void gone.whereRaw('record_key = any(?::text[])', [boundArray(touched)])
    await gone.delete()
    for await (const lives of readLives(trx, typeId, fieldId, touched, reached))
      await copyInto(trx, 'spoor.life', ['field_id', 'record_key', 'life'], linesOf(fieldId, lives))
  }
  await setMark(trx, 'spoor.life', fieldId, now)
  return now
}

function* linesOf(fieldId: number, lives: readonly ReadLife[]): Generator<string> {
  for (const life of lives) yield copyLine([fieldId, life.key, packed(life)])
}

/** What is kept of records, some at a time. @param only of these keys @param but not of these */
export async function* keptLives(
  trx: Knex.Transaction,
  fieldId: number,
  { only = null, but = [] }: { only?: readonly string[] | null; but?: readonly string[] } = {},
): AsyncGenerator<ReadLife[]> {
  const cursor = `kept_${fieldId}`
  await trx.raw(
    `declare ${cursor} no scroll cursor for select life from spoor.life
      where field_id = ? ${only ? 'and record_key = any(?::text[])' : ''} ${but.length > 0 ? 'and record_key <> all(?::text[])' : ''}`,
    [fieldId, ...(only ? [boundArray(only)] : []), ...(but.length > 0 ? [boundArray(but)] : [])],
  )
  const fetch = async () => (await trx.raw<{ rows: { life: string }[] }>(`fetch ${atOnce} from ${cursor}`)).rows
  const held = new Map<string | null, Holding>()
  for (let rows = await fetch(); rows.length > 0;) {
    const next = fetch()
    next.catch(() => undefined)
    // The database goes on while what came is taken apart.
    await breathe()
    const lives = JSON.parse(`[${rows.map(({ life }) => life).join(',')}]`) as Packed[]
    yield lives.map((one) => unpacked(one, held))
    rows = await next
  }
  await trx.raw(`close ${cursor}`)
}

/**
 * What a field of every record of a type held, as of the transaction's moment: what is kept, and anew what was touched since.
 * @param trx sees one state of the ledger throughout
 * @throws Problem where there is more than is held in memory
 */
export async function livesOf(trx: Knex.Transaction, typeId: number, fieldId: number): Promise<Lives> {
  const mark = await markOf(trx, 'spoor.life', fieldId)
  const touched = await touchedSince(trx, typeId, fieldId, mark, await markNow(trx, typeId))
  const lives: Lives = { keys: [], lives: [], ids: [] }
  const sameAs = await sameActors(trx)
  let spells = 0
  const take = (some: readonly ReadLife[]) => {
    for (const { key, id, life } of some) {
      lives.keys.push(key)
      lives.ids.push(id)
      lives.lives.push(life)
      spells += life.length
      if (sameAs.size > 0)
        for (const { save } of life) if (save) save.actorId = sameAs.get(save.actorId) ?? save.actorId
    }
    if (spells > mostSpells)
      throw new Problem(
        'too-large',
        `There are more than ${counted(mostSpells, 'spell')} to reckon this from. Nothing was reckoned: take a pivot of the changes instead.`,
      )
  }
  if (touched) for await (const some of keptLives(trx, fieldId, { but: touched })) take(some)
  if (touched?.length !== 0) for await (const some of readLives(trx, typeId, fieldId, touched)) take(some)
  return lives
}

/** Actors that turned out to be others. */
async function sameActors(trx: Knex.Transaction): Promise<ReadonlyMap<number, number>> {
  const rows = await trx('spoor.actor')
    .whereNotNull('same_as')
    .select<{ id: number; same_as: number }[]>('id', 'same_as')
  return new Map(rows.map(({ id, same_as }) => [id, same_as]))
}

const others = ['untracked', 'gap', 'unseen', 'contradicted', 'erased', 'masked'] as const
/** What a spell held: text or null for a value, a number for anything else. */
type PackedHolding = string | null | number
/** Of each spell its beginning, what it held, and the save that brought it; without one 0, or -1 where it was found. */
type PackedSpells = (string | null | number)[]
/** A record's key, the keys that it had where that was more than this, and its spells. */
type Packed = [string, readonly KeySpan[] | null, PackedSpells]

function packed({ key, spans, life }: ReadLife): string {
  const flat: PackedSpells = []
  for (const { from, holding, found, save } of life) {
    flat.push(from, packedHolding(holding), save?.id ?? (found ? -1 : 0))
    if (!save) continue
    const { at, actorId, actorKind, runId, correctionId } = save
    // Nearly always a spell begins with its save.
    flat.push(at === from ? 0 : at, actorId, actorKind, runId, correctionId)
  }
  return JSON.stringify([key, spans, flat] satisfies Packed)
}

function packedHolding(holding: Holding): PackedHolding {
  if (holding.state === 'value') return holding.value
  return holding.state === 'absent' ? -1 : others.indexOf(holding.why)
}

const unknowns = others.map((why): Holding => ({ state: 'unknown', why }))

/** @param values what other records hold, so that one value is one thing in memory */
function unpacked([key, spans, flat]: Packed, values: Map<string | null, Holding>): ReadLife {
  const life: LifeSpell[] = []
  let last: LifeSpell | undefined
  for (let at = 0; at < flat.length;) {
    const from = flat[at] as number | null
    const id = flat[at + 2] as number
    if (last) last.to = from
    const save = id <= 0 ? null : savedAt(flat, at + 3, id, from)
    const holding = holdingOf(flat[at + 1] as PackedHolding, values)
    last = { from, to: null, holding, found: id < 0, save }
    life.push(last)
    at += save ? 8 : 3
  }
  return { key, id: recordId(key, spans), spans, life }
}

const savedAt = (flat: PackedSpells, at: number, id: number, from: number | null): LifeSave => ({
  id,
  at: flat[at] === 0 ? from! : (flat[at] as number),
  actorId: flat[at + 1] as number,
  actorKind: flat[at + 2] as ActorKind,
  runId: flat[at + 3] as number | null,
  correctionId: flat[at + 4] as number | null,
})

function holdingOf(packed: PackedHolding, values: Map<string | null, Holding>): Holding {
  if (typeof packed === 'number') return packed < 0 ? absent : unknowns[packed]!
  let holding = values.get(packed)
  if (!holding) values.set(packed, (holding = { state: 'value', value: packed }))
  return holding
}
