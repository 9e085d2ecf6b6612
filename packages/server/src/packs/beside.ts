import { alarmNames, allows, type Alarm, type PackBeside, type Role, type Witness } from '@spoor/contract'
import {
  clockWords,
  compareInstants,
  counted,
  differences,
  fieldsOf,
  grouped,
  recordPlace,
  savesBetween,
  stateAt,
  trailOf,
  valueKind,
  type Holding,
  type Scope,
} from '@spoor/core'
import { compareBaseline } from '../baselines/compare.ts'
import { readBaseline } from '../baselines/baselines.ts'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'
import type { WorkTable } from '../figures/table.ts'
import { calledNow } from '../ledger/called.ts'
import { demandWhole } from '../ledger/reach.ts'
import { listAlarms } from '../alarms/alarms.ts'
import { readCustody } from '../custody/custody.ts'
import { listWitnesses } from '../custody/witnesses.ts'
import { listDifferences } from '../reconcile/keep.ts'
import { storyOf } from '../records/story.ts'
import { gridRecords, unknownWords } from '../standing/grid-csv.ts'
import { KeyLists } from '../standing/list.ts'
import { closesSome, whyCellClosed, type Closings } from './closings.ts'

/** Who reads it, as of when, and what is not to be read. */
export interface BesideRequest {
  scopes: readonly Scope[]
  role: Role
  nowMs: number
  zone: string
  closings: Closings
}

/** A table is put together in memory. */
const mostLines = 50_000
/** Of a longer value its beginning stands there, and of two that begin alike it is not known whether they differ. */
const longest = 20_000

/**
 * A table that stands in a pack beside its changes.
 * @throws Problem for whoever sees a part or may not read that, and where there is none or too much of it
 */
export async function besideTable(db: Database, beside: PackBeside, request: BesideRequest): Promise<WorkTable> {
  const title = await besideTitle(db, beside, request)
  return { title, ...(await linesOf(db, beside, request)) }
}

type Lines = Omit<WorkTable, 'title'>

async function linesOf(db: Database, beside: PackBeside, request: BesideRequest): Promise<Lines> {
  switch (beside.beside) {
    case 'standing':
      return await standingLines(db, beside, request)
    case 'moments':
      return await momentsLines(db, beside, request)
    case 'baseline':
      return await baselineLines(db, beside, request)
    case 'differences':
      return await differencesLines(db, beside, request)
    case 'custody':
      return await custodyLines(db, request)
  }
}

/** What it is of. @throws Problem for whoever sees a part or may not read that, and where there is none */
export async function besideTitle(
  db: Database,
  beside: PackBeside,
  { scopes, role, zone }: Pick<BesideRequest, 'scopes' | 'role' | 'zone'>,
): Promise<string> {
  demandWhole(scopes)
  const clock = (at: string) => clockWords(at, zone)
  switch (beside.beside) {
    case 'standing': {
      const conditions = beside.where.length + (beside.words === undefined ? 0 : 1)
      const met = conditions === 0 ? '' : `, those that met ${counted(conditions, 'condition')}`
      return `${(await typeNamed(db, beside.typeId)).plural} as they stood ${clock(beside.at)}${met}`
    }
    case 'moments': {
      const { typeId, key, a, b } = beside
      const called = (await calledNow(db, [{ typeId, key }])).get(recordPlace(typeId, key))
      const { name } = await typeNamed(db, typeId)
      return `${name} ${called?.label ?? key} at two moments, A ${clock(a)} and B ${clock(b)}`
    }
    case 'baseline': {
      if (!allows(role, 'baselines.read')) throw new Problem('not-allowed', 'You may not read baselines.')
      const { meant, name, at, signatures } = await readBaseline(db, beside.baselineId)
      const signed = signatures.map((one) => `${one.meaning} by ${one.by} ${clock(one.at)}`)
      return `what moved of ${meant} from the baseline “${name}” (${[clock(at), ...signed].join(', ')}) until ${clock(beside.until)}`
    }
    case 'differences': {
      if (!allows(role, 'custody.read')) throw new Problem('not-allowed', 'You may not read what was reconciled.')
      const of = beside.typeId === undefined ? 'records' : (await typeNamed(db, beside.typeId)).plural
      return `what ${of} hold or held that no save explains`
    }
    case 'custody': {
      if (!allows(role, 'custody.read')) throw new Problem('not-allowed', 'You may not read how the ledger is kept.')
      return 'how the ledger is kept'
    }
  }
}

type Of<B extends PackBeside['beside']> = Extract<PackBeside, { beside: B }>

interface FieldNamed {
  id: number
  name: string
  baseType: string
}

interface TypeNamed {
  name: string
  plural: string
  fields: ReadonlyMap<number, FieldNamed>
}

async function typeNamed(db: Database, typeId: number): Promise<TypeNamed> {
  const type = await db('spoor.record_type')
    .where({ id: typeId })
    .first<Omit<TypeNamed, 'fields'> | undefined>('name', 'plural')
  if (!type) throw new Problem('not-found', `There is no record type ${typeId}. No pack was made.`)
  const fields = await db('spoor.field')
    .where({ type_id: typeId })
    .select<FieldNamed[]>('id', 'name', 'base_type as baseType')
  return { ...type, fields: new Map(fields.map((field) => [field.id, field])) }
}

/** @throws Problem where there are too many lines */
function demandFew(lines: number): void {
  if (lines > mostLines)
    throw new Problem(
      'too-large',
      `There would be more than ${grouped(mostLines)} lines in a table beside the changes. No pack was made: ask for less of it.`,
    )
}

const text = (name: string): WorkTable['columns'][number] => ({ name, kind: 'text' })

async function standingLines(
  db: Database,
  { typeId, fields, at, words, where, order }: Of<'standing'>,
  { closings }: BesideRequest,
): Promise<Lines> {
  const type = await typeNamed(db, typeId)
  const columns = fields.map((id) => fieldOf(type, id))
  const by = order === undefined ? null : { fieldId: Math.abs(Number(order)), descending: order.startsWith('-') }
  const asked = [...where.map((one) => one.fieldId), ...(by ? [by.fieldId] : [])]
  for (const id of asked) {
    fieldOf(type, id)
    if (closesSome(closings, id))
      throw new Problem('not-allowed', 'What is left out of the pack is not looked into, nor put in order by.')
  }
  const rows: WorkTable['rows'] = []
  const request = { typeId, fieldIds: fields, at, marks: undefined, words, where, order: by }
  const lists = new KeyLists()
  for await (const { key, label, deletedAt, values } of gridRecords(db, lists, request)) {
    if (deletedAt !== null) continue
    rows.push([
      label,
      key,
      ...values.map(({ fieldId, value, unknown, cut }) => {
        const why = whyCellClosed(closings, typeId, key, fieldId)
        if (why !== undefined) return `[${why}]`
        if (unknown !== null) return unknownWords[unknown]
        return cut ? `${value}…` : value
      }),
    ])
    demandFew(rows.length)
  }
  return {
    columns: [
      text('record'),
      text('record key'),
      ...columns.map(({ name, baseType }) => ({
        name,
        kind: valueKind(baseType) === 'number' ? ('number' as const) : ('text' as const),
      })),
    ],
    rows,
  }
}

function fieldOf({ plural, fields }: TypeNamed, id: number): FieldNamed {
  const field = fields.get(id)
  if (!field) throw new Problem('not-found', `There is no field ${id} of ${plural}. No pack was made.`)
  return field
}

const isCut = (holding: Holding) => holding.state === 'value' && (holding.value?.length ?? 0) >= longest

async function momentsLines(
  db: Database,
  { typeId, key, a, b }: Of<'moments'>,
  { zone, closings, nowMs }: BesideRequest,
): Promise<Lines> {
  const type = await typeNamed(db, typeId)
  const story = await storyOf(db, typeId, key, {}, nowMs, { length: longest })
  const [first] = story.saves
  if (story.more && first && [a, b].some((at) => compareInstants(at, first.at) < 0))
    throw new Problem(
      'too-large',
      `The record has more saves than are read at once, the first of them ${clockWords(first.at, zone)}. No pack was made: give later moments.`,
    )
  const trail = trailOf(story)
  const fieldIds = fieldsOf(story)
  const [atA, atB] = [stateAt(trail, fieldIds, a), stateAt(trail, fieldIds, b)]
  const differing = new Map(differences(atA, atB).map((one) => [one.fieldId, one.differs]))
  const labels = new Map(story.references.map(({ fieldId, value, label }) => [`${fieldId} ${value}`, label]))
  const shown = (fieldId: number, holding: Holding): string | null => {
    const why = whyCellClosed(closings, typeId, key, fieldId)
    if (holding.state === 'absent') return 'no record'
    if (holding.state === 'unknown') return unknownWords[holding.why]
    if (why !== undefined) return `[${why}]`
    return labels.get(`${fieldId} ${holding.value}`) ?? (isCut(holding) ? `${holding.value}…` : holding.value)
  }
  const rows = fieldIds.map((fieldId) => {
    const alike = isCut(atA.get(fieldId)!) ? null : false
    const differs = differing.has(fieldId) ? differing.get(fieldId) : alike
    const between = savesBetween(story.saves, fieldId, a, b)
    const how = between.map(
      ({ id, at, actor, reason }) =>
        `${actor.knownAs ?? actor.name}, ${clockWords(at, zone)}, save ${id}${reason === null ? '' : `: “${reason}”`}`,
    )
    return [
      type.fields.get(fieldId)?.name ?? `field ${fieldId}`,
      shown(fieldId, atA.get(fieldId)!),
      shown(fieldId, atB.get(fieldId)!),
      differs === true ? 'yes' : differs === null ? 'not known' : 'no',
      how.length === 0 ? null : how.join('; '),
    ]
  })
  return {
    columns: [text('field'), text('at A'), text('at B'), text('differs'), text('how it came about')],
    rows,
  }
}

async function baselineLines(
  db: Database,
  { baselineId, until }: Of<'baseline'>,
  { closings }: BesideRequest,
): Promise<Lines> {
  const baseline = await readBaseline(db, baselineId)
  const type = await typeNamed(db, baseline.typeId)
  const rows: WorkTable['rows'] = []
  let page = await compareBaseline(db, baselineId, { until })
  for (;;) {
    for (const { key, label, fieldId, then, later, hidden, cut, changes, lastSaveId, lastAt, lastBy } of page.moves) {
      const why = whyCellClosed(closings, baseline.typeId, key, fieldId)
      const shown = (value: string | null) =>
        why !== undefined ? `[${why}]` : hidden !== null ? unknownWords[hidden] : cut ? `${value}…` : value
      const name = type.fields.get(fieldId)?.name ?? `field ${fieldId}`
      rows.push([label, key, name, shown(then), shown(later), String(changes), lastBy, lastAt, lastSaveId])
    }
    demandFew(rows.length)
    if (page.next === null) break
    page = await compareBaseline(db, baselineId, { until, after: page.next })
  }
  const gone: WorkTable['rows'] = page.gone.map(({ key, label, at }) => [
    label,
    key,
    null,
    'there',
    'deleted',
    null,
    null,
    at,
    null,
  ])
  const more = page.deleted - gone.length
  if (more > 0)
    gone.push([`and ${counted(more, 'record')} more`, null, null, 'there', 'deleted', null, null, null, null])
  return {
    columns: [
      text('record'),
      text('record key'),
      text('field'),
      text('in the baseline'),
      text('then'),
      { name: 'changes between', kind: 'number' },
      text('last by'),
      { name: 'last at', kind: 'instant' },
      text('last save'),
    ],
    rows: [...rows, ...gone],
  }
}

const differenceWords = { value: null, gone: 'not there any more', unheard: 'there, and made by no save' } as const

async function differencesLines(
  db: Database,
  { typeId }: Of<'differences'>,
  { closings }: BesideRequest,
): Promise<Lines> {
  const found: Awaited<ReturnType<typeof listDifferences>>['differences'] = []
  for (const settled of [false, true])
    for (let before: number | undefined; ;) {
      const page = await listDifferences(db, { settled, typeId, before })
      found.push(...page.differences)
      demandFew(found.length)
      if (page.next === null) break
      before = page.next
    }
  const types = new Map<number, TypeNamed>()
  for (const one of found) if (!types.has(one.typeId)) types.set(one.typeId, await typeNamed(db, one.typeId))
  const rows = found.map((one) => {
    const type = types.get(one.typeId)!
    const why = one.fieldId === null ? undefined : whyCellClosed(closings, one.typeId, one.key, one.fieldId)
    const shown = (value: string | null) =>
      why !== undefined ? `[${why}]` : one.masked ? unknownWords.masked : one.cut ? `${value}…` : value
    return [
      `${type.name} ${one.label}`,
      one.key,
      one.fieldId === null ? null : (type.fields.get(one.fieldId)?.name ?? `field ${one.fieldId}`),
      one.kind === 'value' ? shown(one.trail) : null,
      differenceWords[one.kind] ?? shown(one.source),
      one.after,
      one.seenAt,
      one.settled === null
        ? one.overAt === null
          ? 'open'
          : 'agrees again'
        : `${one.settled.by}${one.settled.takenIn ? ', taken in as found' : ''}: “${one.settled.why}”`,
    ]
  })
  return {
    columns: [
      text('record'),
      text('record key'),
      text('field'),
      text('by the trail'),
      text('as it was seen'),
      { name: 'came about after', kind: 'instant' },
      { name: 'seen', kind: 'instant' },
      text('settled'),
    ],
    rows,
  }
}

const witnessKinds: Readonly<Record<Witness['kind'], string>> = {
  authority: 'time-stamps by',
  folder: 'copies in the folder',
  address: 'copies at',
  mail: 'copies by mail to',
}

/** How the ledger is kept, a line each. */
async function custodyLines(db: Database, { zone }: Pick<BesideRequest, 'zone'>): Promise<Lines> {
  const clock = (at: string) => clockWords(at, zone)
  const [custody, witnesses, open, settled, erased] = [
    await readCustody(db),
    await listWitnesses(db),
    await listAlarms(db, { settled: false }),
    await listAlarms(db, { settled: true }),
    await db('ledger.erased').count<{ count: string }[]>('* as count').first(),
  ]
  const { saves, before, open: unsealed, seals, latest, key, lastWhole } = custody
  type Line = [what: string, words: string, at: string | null]
  const kept: Line[] = [
    ['saves', `${grouped(saves)} under ${counted(seals, 'seal')}, ${grouped(unsealed)} not sealed yet`, null],
    ...(before > 0 ? [['before sealing began', `${counted(before, 'save')}, under no seal`, null] as Line] : []),
    latest === null
      ? ['the latest seal', 'there is none yet', null]
      : ['the latest seal', `seal ${grouped(latest.number)}, over ${counted(latest.size, 'save')}`, latest.at],
    ...(key ? [['the signing key', `fingerprint ${key.fingerprint}, in use since then`, key.since] as Line] : []),
    lastWhole === null
      ? ['checked from beginning to end', 'not yet', null]
      : [
          'checked from beginning to end',
          `${counted(lastWhole.total, 'save')}, ${lastWhole.found === 0 ? 'every one in place' : `${counted(lastWhole.found, 'place')} not as written`}`,
          lastWhole.endedAt,
        ],
    ['erased by law', counted(Number(erased?.count ?? 0), 'value'), null],
  ]
  const given = witnesses.map(({ kind, place, last, taken, endedAt, trouble }): Line => {
    const took =
      last === null ? 'took no seal yet' : `took ${counted(taken, 'seal')}, seal ${grouped(last.number)} last`
    const ended = endedAt === null ? '' : `; not set any more since ${clock(endedAt)}`
    return [
      `${witnessKinds[kind]} ${place}`,
      `${took}${ended}${trouble ? `; none at the last tries: ${trouble.words}` : ''}`,
      last?.at ?? null,
    ]
  })
  // The words of an alarm may quote what a source answered; what it is goes out, and what was found out about it.
  const told = ({ code, source, at, overAt, settled: by }: Alarm): Line => {
    const state = by
      ? `settled by ${by.by}: “${by.why}”`
      : overAt
        ? `over since ${clock(overAt)}, not settled`
        : 'stands'
    return [`alarm${source === null ? '' : ` of ${source}`}: ${alarmNames[code]}`, state, at]
  }
  const left = open.count - open.alarms.length + settled.count - settled.alarms.length
  const wrong: Line[] = [
    ...[...open.alarms, ...settled.alarms].map(told),
    ...(left > 0 ? [['alarms', `${grouped(left)} more, older than these`, null] as Line] : []),
    ...(open.count + settled.count === 0 ? [['alarms', 'none was ever raised', null] as Line] : []),
  ]
  return {
    columns: [text('what'), text('how it stands'), { name: 'at', kind: 'instant' }],
    rows: [...kept, ...given, ...wrong],
  }
}
