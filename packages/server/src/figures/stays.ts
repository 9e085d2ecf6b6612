import {
  durationsOf,
  groupBy,
  groupOfStay,
  instantsOf,
  recordPlace,
  staysFor,
  stepsOf,
  withoutPart,
  type Life,
  type Scope,
  type Stay,
  type StayGroup,
  type StaysWork,
} from '@spoor/core'
import type { StaysAnswer } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { asOfOneMoment } from '../database/one-moment.ts'
import { Problem } from '../errors.ts'
import { calledNow } from '../ledger/called.ts'
import { referencesOf } from '../ledger/references.ts'
import { whereScopes } from '../ledger/scope-sql.ts'
import { demandWhole } from '../ledger/reach.ts'
import { demandField, named, type FieldOfType, type WorkRequest } from './ground.ts'
import { livesOf, type Lives } from '../scope/kept-lives.ts'
import { keepSoon } from '../scope/reading.ts'
import { namesOf } from './names.ts'

/** A field with more values has no steps that anybody reads. */
const mostValues = 60
const mostGroups = 200
const mostSteps = 60
const mostGoingOn = 50

/**
 * How long records stayed in the values of a field, or took from one to another. What ended in the scope's time, by saves
 * that it means, counts; so does what goes on.
 * @throws Problem where the field is masked, or holds what is no status
 */
export async function readStays(
  db: Database,
  scopes: readonly Scope[],
  { work, zone, closed, personId = null }: WorkRequest<StaysWork>,
  nowMs: number,
): Promise<StaysAnswer> {
  const field = await demandField(db, work.fieldId, closed)
  const other = work.by.startsWith('field.') ? await demandField(db, Number(work.by.slice(6)), closed) : null
  if (other && other.typeId !== field.typeId)
    throw new Problem('bad-request', `${other.name} is no field of ${field.plural}. Nothing was reckoned.`)
  demandWhole(scopes)
  if (!db.isTransaction) await keepSoon(db, other ? [field.id, other.id] : [field.id], { personId }, 'spoor.life')
  return await asOfOneMoment(db, async (trx) => {
    const lives = await livesOf(trx, field.typeId, field.id)
    const values = countValues(lives.lives)
    if (values.size > mostValues)
      throw new Problem(
        'bad-request',
        `${field.name} of ${field.plural} held ${values.size} different values. Time in value is for a field with a few, as a status has. Nothing was reckoned: choose another field.`,
      )
    const counts = await countingOf(trx, scopes, field, nowMs)
    const stays = staysFor(lives.lives, work)
    const ended = stays.filter(({ endedBy, toMs }) => endedBy !== null && counts(endedBy.id, toMs!))
    const going = stays.filter(({ goesOn }) => goesOn)
    const otherOf = await otherField(trx, lives, other)
    const valueOf = (stay: Stay) => groupOfStay(stay, work.by, otherOf, zone).value
    const took = groupBy(
      ended.filter(({ fromMs }) => fromMs !== null),
      valueOf,
    )
    // Only a value is known before the end.
    const goingBy = work.by === 'value' ? groupBy(going, valueOf) : new Map<StayGroup['value'], Stay[]>()
    const groups = [...new Set([...took.keys(), ...goingBy.keys()])]
      .map((value) => ({
        of: value === undefined ? {} : { value },
        ...durationsOf(took.get(value) ?? []),
        goingOn: goingBy.get(value)?.length ?? 0,
      }))
      .sort((a, b) => b.many - a.many || b.goingOn - a.goingOn)
    const shown = groups.slice(0, mostGroups)
    const names = await groupNames(
      { trx, scopes, nowMs },
      shown.map(({ of }) => of),
      work,
      other,
    )
    return {
      field: named(field),
      values: [...values].sort((a, b) => b[1] - a[1]).map(([value]) => value),
      all: durationsOf(ended),
      groups: shown.map((group, at) => ({ ...group, name: names[at]! })),
      moreGroups: groups.length - shown.length,
      goingOn: going.length,
      longest: await longestOf(trx, lives, field, going, nowMs),
      steps: stepsOf(lives.lives).slice(0, mostSteps),
      unknown: {
        began: ended.filter(({ fromMs }) => fromMs === null).length,
        ended: stays.filter(({ lost }) => lost).length,
      },
    }
  })
}

function countValues(lives: readonly Life[]): Map<string | null, number> {
  const values = new Map<string | null, number>()
  for (const life of lives)
    for (const { holding } of life)
      if (holding.state === 'value') values.set(holding.value, (values.get(holding.value) ?? 0) + 1)
  return values
}

/** Whether a save counts: by its time, and by whatever else the scope says of it but its fields. */
async function countingOf(
  trx: Knex.Transaction,
  scopes: readonly Scope[],
  field: FieldOfType,
  nowMs: number,
): Promise<(saveId: number, atMs: number) => boolean> {
  const asked = scopes[0] ?? {}
  const when = asked.when && !asked.when.exclude && !asked.when.effective ? asked.when : undefined
  const { fromMs, toMs } = when ? instantsOf(when.span, nowMs) : { fromMs: null, toMs: null }
  const inTime = (atMs: number) => (fromMs === null || atMs >= fromMs) && (toMs === null || atMs < toMs)
  const others = withoutPart(when ? withoutPart(asked, 'when') : asked, 'what')
  if (Object.keys(others).length === 0) return (_, atMs) => inTime(atMs)
  const saves = trx('ledger.save as s').where('s.type_id', field.typeId)
  whereScopes(saves, [others, ...scopes.slice(1)], 'save', 's', nowMs)
  const ids = new Set((await saves.pluck<string[]>('s.id')).map(Number))
  return (saveId, atMs) => ids.has(saveId) && inTime(atMs)
}

/** Of a record by its place, another field of it. */
async function otherField(
  trx: Knex.Transaction,
  { ids }: Lives,
  other: FieldOfType | null,
): Promise<(record: number) => Life | undefined> {
  if (!other) return () => undefined
  const { ids: own, lives } = await livesOf(trx, other.typeId, other.id)
  const byId = new Map(own.map((id, at) => [id, lives[at]!]))
  return (record) => byId.get(ids[record]!)
}

/** What groups are called, in their order. */
async function groupNames(
  { trx, scopes, nowMs }: { trx: Knex.Transaction; scopes: readonly Scope[]; nowMs: number },
  groups: readonly StayGroup[],
  { by }: StaysWork,
  other: FieldOfType | null,
): Promise<string[]> {
  const values = groups.flatMap(({ value }) => value ?? [])
  const dimension = by === 'who' || by === 'kind' || by === 'month' ? by : ('after' as const)
  const names = new Map((await namesOf(trx, scopes, dimension, values, nowMs)).map((name, at) => [values[at]!, name]))
  if (other)
    for (const { value, label } of await referencesOf(
      trx,
      values.map((after) => ({ fieldId: other.id, before: null, after })),
    ))
      names.set(value, label)
  return groups.map(({ value }) => (value === undefined ? 'not known' : value === null ? 'nothing' : names.get(value)!))
}

/** What goes on for longest, with what the records are called. */
async function longestOf(
  trx: Knex.Transaction,
  { keys }: Lives,
  { typeId }: FieldOfType,
  going: readonly Stay[],
  nowMs: number,
): Promise<StaysAnswer['longest']> {
  // Of what was there before anything was known nobody knows how long: it comes behind all of which that is known.
  const first = [...going]
    .sort((a, b) => (a.fromMs ?? Infinity) - (b.fromMs ?? Infinity) || a.record - b.record)
    .slice(0, mostGoingOn)
  const names = await calledNow(
    trx,
    first.map(({ record }) => ({ typeId, key: keys[record]! })),
  )
  return first.map(({ record, value, fromMs }) => ({
    key: keys[record]!,
    label: names.get(recordPlace(typeId, keys[record]!))?.label ?? keys[record]!,
    value,
    forMs: fromMs === null ? null : nowMs - fromMs,
  }))
}
