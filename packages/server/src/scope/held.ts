import { instantOfMicros, type Life, type LifeSpell, type Scope } from '@spoor/core'
import type { Knex } from 'knex'
import { copyInto, copyLine } from '../database/copy.ts'
import { boundArray, type Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { KeySpan } from '../ledger/thread.ts'
import { keepLives, keptLives } from './kept-lives.ts'
import type { Reached, ReadLife } from './lives.ts'
import { behind, holdMark, setMark, touchedSince, type Kept } from './reading-mark.ts'

/** The fields whose values some scopes ask for. */
export const heldFields = (scopes: readonly Scope[]): number[] => [
  ...new Set(scopes.flatMap(({ holds }) => holds?.tests.map(({ fieldId }) => fieldId) ?? [])),
]

/** One after the other in this process, so that those who wait for the first reading of a field hold no connection. */
const underWay = new WeakMap<Database, Map<number, Promise<void>>>()

/**
 * Brings what fields held up to all that the ledger has by now, however long that takes.
 * @param kept what is asked for: the spells of records as they are reckoned with, or also as scopes ask for them
 * @throws Problem where it cannot be read
 */
export async function keepRead(
  db: Database,
  fieldIds: readonly number[],
  kept: Kept = 'spoor.held',
  reached?: Reached,
): Promise<void> {
  for (const fieldId of fieldIds) {
    const own = underWay.get(db) ?? new Map<number, Promise<void>>()
    underWay.set(db, own)
    const next = (own.get(fieldId) ?? Promise.resolve())
      // What went wrong was said to whoever asked for it.
      .catch(() => undefined)
      .then(() => db.transaction((trx) => keepField(trx, fieldId, kept, reached)))
    own.set(fieldId, next)
    try {
      await next
    } finally {
      if (own.get(fieldId) === next) own.delete(fieldId)
    }
  }
}

/** A busy field is read again so often before a moment is given up. */
const mostTries = 20

/**
 * Works on one moment of the ledger for which what some fields held is read: whatever is saved in between would else
 * be judged by what was held before.
 */
export async function atMomentOf<T>(
  db: Database,
  fields: readonly number[],
  work: (trx: Knex.Transaction) => Promise<T>,
): Promise<T> {
  for (let tries = 0; tries < mostTries; tries++) {
    const done = await db.transaction(
      async (trx) => ((await isRead(trx, fields)) ? { answer: await work(trx) } : null),
      { isolationLevel: 'repeatable read' },
    )
    if (done) return done.answer
    await keepRead(db, fields)
  }
  throw new Problem(
    'busy',
    'The fields that the scope asks for are being changed too fast to read what they held at one moment. Nothing was made; try again in a quieter minute.',
  )
}

async function isRead(trx: Knex.Transaction, fields: readonly number[]): Promise<boolean> {
  return fields.length === 0 || (await behind(trx, fields, 'spoor.held')).length === 0
}

async function typeOf(db: Database, fieldId: number): Promise<number | null> {
  const field = await db('spoor.field').where({ id: fieldId }).first<{ type_id: number } | undefined>('type_id')
  return field?.type_id ?? null
}

async function keepField(trx: Knex.Transaction, fieldId: number, kept: Kept, reached?: Reached): Promise<void> {
  const typeId = await typeOf(trx, fieldId)
  if (typeId === null) return
  const now = await keepLives(trx, typeId, fieldId, reached)
  if (kept === 'spoor.life') return
  const read = await holdMark(trx, kept, fieldId)
  const touched = await touchedSince(trx, typeId, fieldId, read, now)
  if (touched?.length !== 0) {
    const gone = trx(kept).where({ field_id: fieldId })
    if (touched) void gone.whereRaw('record_key = any(?::text[])', [boundArray(touched)])
    await gone.delete()
    for await (const lives of keptLives(trx, fieldId, { only: touched }))
      await copyInto(trx, kept, columns, linesOf(fieldId, lives))
  }
  await setMark(trx, kept, fieldId, now)
}

/** A moment in the order of a record's saves. */
interface Bound {
  at: string
  save: string
}

const ever: KeySpan[] = [{ key: '', from: '0', to: null }]
const columns = [
  ...['field_id', 'record_key', 'since_save', 'until_save', 'from_at', 'from_save', 'to_at', 'to_save'],
  ...['known', 'value', 'stands', 'latest'],
]

function* linesOf(fieldId: number, lives: readonly ReadLife[]): Generator<string> {
  for (const { key, spans, life } of lives) {
    const last = life.at(-1)?.holding
    const now = last?.state === 'value' ? [true, last.value] : [false, null]
    for (const span of spans ?? ever)
      for (const [at, segment] of life.entries()) {
        const { holding } = segment
        if (holding.state === 'absent') continue
        const [from, to] = [begun(segment), ended(life, at)]
        yield copyLine([
          ...[fieldId, spans ? span.key : key, span.from, span.to],
          ...[from.at, from.save, to.at, to.save],
          ...(holding.state === 'value' ? [true, holding.value] : [false, null]),
          ...now,
        ])
      }
  }
}

const begun = ({ from, save }: LifeSpell): Bound => ({
  at: from === null ? '-infinity' : instantOfMicros(from),
  save: String(save?.id ?? 0),
})

/**
 * A deletion belongs to what it ends: it is asked for by what it took. So do the lines that go with the record, until there is
 * one under the key again.
 */
function ended(life: Life, at: number): Bound {
  const next = life[at + 1]
  const after = next?.holding.state === 'absent' ? life[at + 2] : next
  return after ? begun(after) : { at: 'infinity', save: '0' }
}
