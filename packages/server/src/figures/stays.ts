import {
  durationsOf,
  groupBy,
  instantsOf,
  kindPlural,
  passagesOf,
  recordPlace,
  segmentAt,
  staysOf,
  stepsOf,
  wallClock,
  withoutPart,
  dateText,
  type Durations,
  type Life,
  type Scope,
  type StaysWork,
} from '@spoor/core'
import type { StaysAnswer } from '@spoor/contract'
import type { Knex } from 'knex'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import { calledNow } from '../ledger/called.ts'
import { referencesOf } from '../ledger/references.ts'
import { whereScopes } from '../ledger/scope-sql.ts'
import { livesOf, type Lives } from './lives.ts'
import { namesOf } from './names.ts'
import { asOfOneMoment, demandField, demandWhole, type FieldOfType } from './over-time.ts'

/** A field with more values has no steps that anybody reads. */
const mostValues = 60
const mostGroups = 200
const mostSteps = 60
const mostGoingOn = 50

type Group = StaysAnswer['groups'][number]

/**
 * How long records stayed in the values of a field, or took from one to another. What ended in the scope's time, by saves
 * that it means, counts; so does what goes on.
 * @throws Problem where the field is masked, or holds what is no status
 */
export async function readStays(
  db: Database,
  scopes: readonly Scope[],
  { work, zone, closed }: { work: StaysWork; zone: string; closed?: ReadonlySet<number> },
  nowMs: number,
): Promise<StaysAnswer> {
  const field = await demandField(db, work.fieldId, closed)
  const other = work.by.startsWith('field.') ? await demandField(db, Number(work.by.slice(6)), closed) : null
  if (other && other.typeId !== field.typeId)
    throw new Problem('bad-request', `${other.name} is no field of ${field.plural}. Nothing was reckoned.`)
  demandWhole(scopes)
  return await asOfOneMoment(db, async (trx) => {
    const lives = await livesOf(trx, field.typeId, field.id)
    const values = countValues(lives.lives)
    if (values.size > mostValues)
      throw new Problem(
        'bad-request',
        `${field.name} of ${field.plural} held ${values.size} different values. Time in value is for a field with a few, as a status has. Nothing was reckoned: choose another field.`,
      )
    const counts = await countingOf(trx, scopes, field, nowMs)
    const others = other ? await livesByKey(trx, other) : null
    const timed = work.to === null ? staying(lives, work) : passing(lives, work)
    const ended = timed.filter((one) => one.endedBy !== null && counts(one.endedBy, one.toMs!))
    const groupOf = groupingOf(lives, work, others, zone)
    const grouped = groupBy(
      ended.filter(({ fromMs }) => fromMs !== null),
      groupOf,
    )
    const going = timed.filter((one) => one.goesOn)
    const goingBy = groupBy(going, (one) => (work.by === 'value' ? groupOf(one) : ''))
    const keys = [...new Set([...grouped.keys(), ...(work.by === 'value' ? goingBy.keys() : [])])]
    const names = await groupNames(trx, scopes, keys, work, other, nowMs)
    const groups = keys.map((key): Group => {
      const took = grouped.get(key) ?? []
      const stays = goingBy.get(key) ?? []
      return {
        key,
        name: names.get(key) ?? key,
        ...durationsOf(took.map(({ fromMs, toMs }) => toMs! - fromMs!)),
        goingOn: stays.length,
      }
    })
    return {
      field: { id: field.id, typeId: field.typeId, name: field.name, plural: field.plural },
      values: [...values].sort((a, b) => b[1] - a[1]).map(([value]) => value),
      all: durationsOf(
        ended.flatMap(({ fromMs, toMs }) => (fromMs === null ? [] : toMs! - fromMs)),
      ) satisfies Durations,
      groups: groups.sort((a, b) => b.many - a.many || b.goingOn - a.goingOn).slice(0, mostGroups),
      moreGroups: Math.max(0, groups.length - mostGroups),
      goingOn: going.length,
      longest: await longestOf(trx, lives, field, going, nowMs),
      steps: stepsOf(lives.lives).slice(0, mostSteps),
      unknown: {
        began: ended.filter(({ fromMs }) => fromMs === null).length,
        ended: timed.filter((one) => one.lost).length,
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

/** A stay or a passage. */
interface Timed {
  record: number
  value: string | null
  fromMs: number | null
  toMs: number | null
  endedBy: string | null
  goesOn: boolean
  /** Whether nothing is known of how it ended. */
  lost: boolean
}

function staying({ lives }: Lives, { from }: StaysWork): Timed[] {
  return [...staysOf(lives)].flatMap(({ record, value, fromMs, toMs, endedBy, next }) => {
    if (from !== null && value !== from) return []
    const goesOn = next === undefined
    return { record, value, fromMs, toMs, endedBy, goesOn, lost: !goesOn && endedBy === null }
  })
}

function passing({ lives }: Lives, { from, to }: StaysWork): Timed[] {
  return passagesOf(lives, from, to!).map(({ record, fromMs, toMs, by, lostMs }) => ({
    record,
    value: to,
    fromMs,
    toMs,
    endedBy: by,
    goesOn: toMs === null && lostMs === null,
    lost: lostMs !== null,
  }))
}

/** Whether a save counts: by its time, and by whatever else the scope says of it but its fields. */
async function countingOf(
  trx: Knex.Transaction,
  scopes: readonly Scope[],
  field: FieldOfType,
  nowMs: number,
): Promise<(saveId: string, atMs: number) => boolean> {
  const asked = scopes[0] ?? {}
  const when = asked.when && !asked.when.exclude && !asked.when.effective ? asked.when : undefined
  const { fromMs, toMs } = when ? instantsOf(when.span, nowMs) : { fromMs: null, toMs: null }
  const inTime = (atMs: number) => (fromMs === null || atMs >= fromMs) && (toMs === null || atMs < toMs)
  const others = withoutPart(when ? withoutPart(asked, 'when') : asked, 'what')
  if (Object.keys(others).length === 0) return (_, atMs) => inTime(atMs)
  const saves = trx('ledger.save as s').where('s.type_id', field.typeId)
  whereScopes(saves, [others, ...scopes.slice(1)], 'save', 's', nowMs)
  const ids = new Set(await saves.pluck<string[]>('s.id'))
  return (saveId, atMs) => ids.has(saveId) && inTime(atMs)
}

async function livesByKey(trx: Knex.Transaction, { id, typeId }: FieldOfType): Promise<ReadonlyMap<string, Life>> {
  const { keys, lives } = await livesOf(trx, typeId, id)
  return new Map(keys.map((key, at) => [key, lives[at]!]))
}

/** What cannot be told of a group, apart from any name that there is. */
const unknownGroup = ' not known'
const nothingGroup = ' nothing'

function groupingOf(
  { keys, saves }: Lives,
  { by }: StaysWork,
  others: ReadonlyMap<string, Life> | null,
  zone: string,
): (one: Timed) => string {
  return ({ record, value, toMs, endedBy }) => {
    const save = endedBy === null ? undefined : saves.get(endedBy)
    switch (by) {
      case 'value':
        return value === null ? nothingGroup : `v${value}`
      case 'who':
        return save ? String(save.actorId) : unknownGroup
      case 'kind':
        return save?.actorKind ?? unknownGroup
      case 'month':
        return toMs === null ? unknownGroup : `${wallClock(Math.floor(toMs), zone).date.slice(0, 7)}-01`
      default: {
        const life = others?.get(keys[record]!)
        const holding = life && save ? segmentAt(life, save.at)?.holding : undefined
        if (holding?.state !== 'value') return unknownGroup
        return holding.value === null ? nothingGroup : `v${holding.value}`
      }
    }
  }
}

async function groupNames(
  trx: Knex.Transaction,
  scopes: readonly Scope[],
  keys: readonly string[],
  { by }: StaysWork,
  other: FieldOfType | null,
  nowMs: number,
): Promise<Map<string, string>> {
  const names = new Map<string, string>([
    [unknownGroup, 'not known'],
    [nothingGroup, 'nothing'],
  ])
  const own = keys.filter((key) => !names.has(key))
  if (by === 'who') {
    const told = await namesOf(trx, scopes, 'who', own, nowMs)
    for (const [at, key] of own.entries()) names.set(key, told[at]!)
  } else if (by === 'kind') for (const key of own) names.set(key, kindPlural[key as keyof typeof kindPlural])
  else if (by === 'month') for (const key of own) names.set(key, dateText(key).split(' ').slice(1).join(' '))
  else {
    for (const key of own) names.set(key, key.slice(1))
    if (other)
      for (const { value, label } of await referencesOf(
        trx,
        own.map((key) => ({ fieldId: other.id, before: null, after: key.slice(1) })),
      ))
        names.set(`v${value}`, label)
  }
  return names
}

/** What goes on for longest, with what the records are called. */
async function longestOf(
  trx: Knex.Transaction,
  { keys }: Lives,
  { typeId }: FieldOfType,
  going: readonly Timed[],
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
