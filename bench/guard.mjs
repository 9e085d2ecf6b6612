import { newGuard } from '../packages/server/dist/tracking/guards.js'
import { readDraft, stageDraft } from '../packages/server/dist/tracking/plan-store.js'
import { putInForce } from '../packages/server/dist/tracking/put-in-force.js'
import { prepared, throughput } from './capture.mjs'
import { median } from './world.mjs'

const seconds = 4
const rounds = 5

/** Five guards as somebody would have them, none of which is met by what is written. */
function fiveGuards(fields) {
  const plain = {
    name: 'a guard',
    words: 'Not here.',
    mode: 'refuse',
    acts: ['change'],
    fieldId: null,
    test: { test: 'any' },
    held: null,
    by: null,
    times: null,
    withoutReason: false,
    above: null,
    zone: 'Europe/London',
  }
  return [
    { ...plain, fieldId: fields.c0, test: { test: 'rises', by: '1000', share: false } },
    { ...plain, fieldId: fields.c1, held: { fieldId: fields.c2, values: ['approved'], other: false } },
    { ...plain, fieldId: fields.c0, held: { fieldId: fields.c4, values: ['neither'], other: false } },
    { ...plain, above: 1000 },
    { ...plain, withoutReason: true, by: { actors: ['Nobody'], kinds: [], channels: [], logins: [], others: false } },
  ]
}

async function guard(world) {
  const { db, sources, person } = world
  const rows = await db('spoor.field as f')
    .join('spoor.record_type as t', 't.id', 'f.type_id')
    .where('t.table_name', 'tracked')
    .select('f.id', 'f.column_name', 'f.type_id', 't.source_id')
  const fields = Object.fromEntries(rows.map((row) => [row.column_name, row.id]))
  const { type_id: typeId, source_id: sourceId } = rows[0]
  const edits = []
  for (const one of fiveGuards(fields))
    edits.push({ typeId, guardId: await newGuard(db, typeId, person.id), guard: one })
  const { revision } = await readDraft(db, sourceId)
  await stageDraft(db, sourceId, revision, edits, person.id)
  await putInForce(db, sources, sourceId, revision + 1, 'benchmark', person)
}

/** Transactions a second of eight clients, each changing one row: with five guards against tracked without, in turn. */
export async function guards(cluster) {
  const [without, guarded] = [await prepared(cluster), await prepared(cluster)]
  await guard(guarded)
  const rates = { without: [], guarded: [] }
  for (let round = 0; round < rounds; round++) {
    rates.without.push(await throughput(without, 'tracked', seconds))
    rates.guarded.push(await throughput(guarded, 'tracked', seconds))
  }
  await without.close()
  await guarded.close()
  const ratio = median(rates.guarded) / median(rates.without)
  return [
    {
      name: 'guard',
      value: median(rates.guarded),
      unit: 'transactions/s',
      against: 'tracked without guards',
      ratio,
      target: '>= 0.9',
      holds: ratio >= 0.9,
    },
  ]
}
