import Big from 'big.js'
import fc from 'fast-check'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import {
  actorKinds,
  dimensions,
  firstWork,
  heldFieldOf,
  matches,
  measures,
  ofDifferences,
  partsOf,
  rise,
  scopeOfMember,
  withPart,
  type ChangeState,
  type Dimension,
  type FixedDimension,
  type Measure,
  type Scope,
  type ScopedChange,
} from '@spoor/core'
import { farZones, memberOf, zones } from '../../core/src/figures/member.arbitrary.ts'
import { anyScope } from '../../core/src/scope/scope.arbitrary.ts'
import type { Held, Save as SaveShown } from '@spoor/contract'
import { savePage } from '../src/ledger/saves.ts'
import { readActivity } from '../src/changes/queries/activity.ts'
import { changePage } from '../src/changes/queries/changes.ts'
import { groupChanges } from '../src/changes/queries/groups.ts'
import { readPairs } from '../src/changes/queries/pairs.ts'
import { listRecords } from '../src/changes/queries/records.ts'
import { sortedChanges } from '../src/ledger/sorted.ts'
import { readPivot } from '../src/figures/pivot.ts'
import { summarise } from '../src/changes/queries/summary.ts'
import { makeWorld, type World } from './support.ts'

type Made = ScopedChange & { saveId: string }
const values = ['10', '12.50', '-3', '0', 'a', '', '=x%_', 'NaN', 'b=X.5', '2026-03-20', '2026-04-11 09:00:00+00', null]
const channels = ['screen', 'API', 'odd, %é']
const reasons = [null, 'Phone call', 'by letter', '100%_']

let world: World
let changes: Made[]
const nowMs = Date.parse('2026-04-20T12:00:00Z')
const keys = ['["1"]', '["2"]', '["a,b","!:é"]', '["=1"]']

/** The cases that a save is gathered in, by what is put into them below. */
const casesOfSave = (save: number, typeId: number, key: string): number[] => [
  ...(save % 11 === 0 ? [1] : []),
  ...((typeId === 2 && key === keys[1]) || save % 9 === 0 ? [2] : []),
  ...(save % 7 === 0 || save === 17 ? [3] : []),
]

const timeOf = (save: number) => new Date(Date.parse('2026-03-01T00:00:00Z') + save * 15_731_000).toISOString()
/** What a field of a record held by the number of a save: it moves every so often, is not known at times, and changes hands at 150. */
function heldAt(fieldId: number, key: string, save: number): { known: boolean; value: string | null } {
  const spell = Math.floor(save / (5 + fieldId + keys.indexOf(key)))
  return { known: spell % 4 !== 1, value: values[(spell * 3 + fieldId + (save < 150 ? 0 : 1)) % values.length]! }
}
const heldNow = (fieldId: number, key: string) => ({
  known: key !== keys[2],
  value: values[(fieldId * 5) % values.length]!,
})

/** The same as the server keeps it: spells under the key until save 150, and from there on. */
async function insertHeld(fieldId: number, key: string): Promise<void> {
  const long = 5 + fieldId + keys.indexOf(key)
  const now = heldNow(fieldId, key)
  for (let from = 0; from <= 300; from += long)
    for (const [since, until] of [
      [0, 150],
      [150, null],
    ] as const) {
      const spell = heldAt(fieldId, key, from)
      // A spell that reaches over the change of hands is told twice, each time with what the one or the other held.
      const own = values[(Math.floor(from / long) * 3 + fieldId + (since === 0 ? 0 : 1)) % values.length]!
      await world.db('spoor.held').insert({
        field_id: fieldId,
        record_key: key,
        since_save: since,
        until_save: until,
        from_at: from === 0 ? '-infinity' : timeOf(from),
        from_save: from,
        to_at: from + long > 300 ? 'infinity' : timeOf(from + long),
        to_save: from + long > 300 ? 0 : from + long,
        known: spell.known,
        value: spell.known ? own : null,
        stands: now.known,
        latest: now.known ? now.value : null,
      })
    }
}

/** Of a save what its record held, or the record whose line that is. Field n is of type n here. */
function heldOf(save: number, typeId: number, key: string, parent: Made['parent']): NonNullable<Made['held']> {
  const of = [{ typeId, key }, ...(parent && parent.typeId !== typeId ? [parent] : [])]
  return of.flatMap((record) => {
    const [then, now] = [heldAt(record.typeId, record.key, save), heldNow(record.typeId, record.key)]
    return [
      ...(then.known ? [{ fieldId: record.typeId, now: false, value: then.value }] : []),
      ...(now.known ? [{ fieldId: record.typeId, now: true, value: now.value }] : []),
    ]
  })
}

beforeAll(async () => {
  world = await makeWorld('select 1')
  const { db } = world
  changes = []
  for (const id of [1, 2, 3, 4, 5, 6]) {
    await db('spoor.record_type').insert({
      source_id: world.sourceId,
      relation_id: id,
      schema_name: 'x',
      table_name: `t${id}`,
      name: `t${id}`,
      plural: `t${id}`,
      area: id % 2 ? 'odd' : 'even',
      key_columns: '[]',
      label_columns: '[]',
    })
    await db('spoor.field').insert({
      type_id: id,
      attribute_number: 1,
      column_name: 'c',
      name: 'c',
      data_type: 'x',
      base_type: id % 2 === 0 ? 'numeric' : 'text',
      part_of_key: false,
      generated: false,
    })
  }
  for (const id of [1, 2, 3, 4, 5, 6])
    await db.raw(`insert into spoor.actor (kind, name) values (?, ?)`, [actorKinds[id - 1]!, `actor ${id}`])
  await db('spoor.question').insert({ actor_id: 1, text: 'Why?', by: world.adminId })
  await db('spoor.question').insert({
    actor_id: 1,
    text: 'Why?',
    by: world.adminId,
    answer: 'So.',
    answered_by: world.adminId,
    answered_at: db.fn.now(),
  })
  await db('spoor.story').insert({
    story: 'x',
    reasons: '[]',
    saves: 0,
    records: 0,
    from_at: new Date().toISOString(),
    to_at: new Date().toISOString(),
    actors: [],
    types: [],
  })
  for (const id of [1, 2, 3, 4, 5, 6])
    await db.raw(
      `insert into ledger.run (id, source_id, kind, run_key, declared, first_at, last_at, saves) overriding system value
       values (?, ?, 'declared', ?, ?, now(), now(), 50)`,
      [id, world.sourceId, `run ${id}`, `run ${id}`],
    )
  await db('spoor.assignment').insert({ assigned_to: world.adminId, note: '', by: world.adminId })
  for (const question of ['one', 'two', 'three'])
    await db('spoor.case_file').insert({ question, owner_id: world.adminId, opened_by: world.adminId })
  await db('spoor.correction').insert({ source_id: world.sourceId, state: 'draft', drafted_by: world.adminId })
  await db('spoor.note').insert({ save_id: 17, text: 'x', by: world.adminId })
  const item = (caseId: number, more: object) =>
    db('spoor.case_item').insert({ case_id: caseId, gathered_by: world.adminId, ...more })
  for (let save = 11; save <= 300; save += 11) await item(1, { save_id: save })
  await item(1, { save_id: 1, removed_at: db.fn.now(), removed_by: world.adminId, removed_why: 'not it' })
  await item(2, { type_id: 2, record_key: keys[1]! })
  await item(2, { question_id: 2 })
  await item(3, { correction_id: 1 })
  await item(3, { note_id: 1 })
  for (const month of ['2026-03-01', '2026-04-01', '2026-05-01'])
    await db.raw('select ledger.ensure_month(?::date)', [month])
  for (let save = 1; save <= 300; save++) {
    const actorId = 1 + ((save * 7) % 6)
    const typeId = 1 + ((save * 5) % 4)
    const key = keys[(save * 3) % keys.length]!
    const at = timeOf(save)
    const actorKind = actorKinds[actorId - 1]!
    const parent = save % 3 === 0 ? { typeId: 1 + (save % 4), key: keys[save % keys.length]! } : null
    const action = (['create', 'change', 'delete'] as const)[save % 3]!
    const channel = channels[(save * 2) % 3]!
    const reason = reasons[(save * 3) % 4]!
    // Some are from before runs were kept.
    const runId = save % 100 === 0 ? 0 : 1 + (save % 6)
    const states: ChangeState[] = [
      ...(save % 4 === 0 ? (['reviewed'] as const) : []),
      ...(save % 5 === 0 ? (['flagged'] as const) : []),
      ...(save % 6 === 0 ? (['asked'] as const) : []),
      ...(save % 9 === 0 ? (['answered'] as const) : []),
      ...(save % 8 === 0 ? (['assigned'] as const) : []),
      ...(save % 7 === 0 ? (['correction'] as const) : []),
    ]
    const line = { parent_type_id: parent?.typeId ?? null, parent_key: parent?.key ?? null }
    await db('ledger.save').insert({
      id: save,
      captured_at: at,
      source_id: world.sourceId,
      type_id: typeId,
      record_key: key,
      label: `record ${key}`,
      action,
      actor_id: actorId,
      reason,
      run_id: runId === 0 ? null : runId,
      correction_id: save % 7 === 0 ? 1 : null,
      actor_kind: actorKind,
      claimed: false,
      channel,
      db_login: 'x',
      transaction_id: String(Math.floor(save / 4)),
      plan_version: 1,
      outbox_seq: save,
      ...line,
    })
    for (const mark of states.filter((state) => state === 'reviewed' || state === 'flagged'))
      await db('spoor.mark').insert({ save_id: save, mark, by: world.adminId })
    if (states.includes('asked')) await db('spoor.question_save').insert({ question_id: 1, save_id: save })
    if (states.includes('answered')) await db('spoor.question_save').insert({ question_id: 2, save_id: save })
    if (states.includes('assigned')) await db('spoor.assignment_save').insert({ assignment_id: 1, save_id: save })
    if (save % 10 === 0) await db('spoor.story_save').insert({ story_id: 1, save_id: save })
    for (const fieldId of new Set([1 + (save % 6), 1 + ((save * 11) % 6)])) {
      const erased = save % 13 === 0
      const [before, after] = erased
        ? [null, null]
        : [values[(save + fieldId) % values.length]!, values[(save * 3 + fieldId) % values.length]!]
      const isNumber = fieldId % 2 === 0
      const moved = isNumber ? rise(before, after) : null
      await db('ledger.change').insert({
        save_id: save,
        captured_at: at,
        field_id: fieldId,
        type_id: typeId,
        record_key: key,
        actor_id: actorId,
        actor_kind: actorKind,
        before,
        after,
        erased,
        rise: moved?.by ?? null,
        rise_share: moved?.share ?? null,
        ...line,
      })
      await db.raw(
        `insert into ledger.hour_actor (hour, type_id, actor_id, actor_kind, channel, saves, changes)
         values (date_trunc('hour', ?::timestamptz), ?, ?, ?, ?, ?, 1)
         on conflict (hour, type_id, actor_id, channel) do update
           set saves = hour_actor.saves + excluded.saves, changes = hour_actor.changes + 1`,
        [at, typeId, actorId, actorKind, channel, fieldId === 1 + (save % 6) ? 1 : 0],
      )
      changes.push({
        saveId: String(save),
        actorId,
        actorKind,
        typeId,
        fieldId,
        key,
        parent,
        atMs: Date.parse(at),
        action,
        channel,
        runId,
        transactionOf: [0, 1, 2, 3].map((at) => String(4 * Math.floor(save / 4) + at)),
        before,
        after,
        erased,
        isNumber,
        reason,
        states,
        stories: save % 10 === 0 ? [1] : [],
        cases: casesOfSave(save, typeId, key),
        restored: false,
        effectiveOn: null,
        held: heldOf(save, typeId, key, parent),
      })
    }
  }
  for (const fieldId of [1, 2, 3, 4, 5, 6]) for (const key of keys) await insertHeld(fieldId, key)
  // What is drawn stands for what the ledger would say.
  for (const field_id of [1, 2, 3, 4, 5, 6])
    await db('spoor.held_read').insert({ field_id, read_save: 0, coverage: '', places: '{}' })
  await db('spoor.record_type').update({ effective_field_id: 1 })
  for (const change of changes) {
    const before = (other: Made, orAt: boolean) =>
      other.typeId === change.typeId &&
      other.key === change.key &&
      (other.atMs < change.atMs || (orAt && other.atMs === change.atMs))
    const latest = changes.filter((other) => other.fieldId === 1 && before(other, true)).at(-1)
    const day = latest && (latest.after ?? (latest.action === 'delete' ? latest.before : null))
    change.effectiveOn = day && /^\d{4}-\d\d-\d\d/.test(day) ? day.slice(0, 10) : null
    change.restored =
      change.action === 'create' && changes.some((other) => other.action === 'delete' && before(other, false))
  }
  await db.raw(
    'insert into ledger.hour_kind select hour, actor_kind, sum(saves), sum(changes) from ledger.hour_actor group by 1, 2',
  )
  await db.raw(
    `insert into ledger.month_actor select date_trunc('month', hour at time zone 'UTC')::date, type_id, actor_id, min(actor_kind), channel, sum(saves), sum(changes)
       from ledger.hour_actor group by 1, 2, 3, 5`,
  )
})
afterAll(() => world.close())

const expected = (scopes: readonly Scope[]) =>
  changes.filter((change) => scopes.every((scope) => matches(scope, change, nowMs)))

async function everySave(scopes: readonly Scope[], limit: number): Promise<string[]> {
  const ids: string[] = []
  for (let after: string | undefined; ;) {
    const page = await savePage(world.db, scopes, { after, limit, nowMs })
    ids.push(...page.saves.map((save) => save.id))
    if (page.next === null) return ids
    after = page.next
  }
}

/** Of two parts at most, so that something is left in it. */
const shortScope = fc
  .tuple(anyScope, fc.nat(9), fc.nat(9))
  .map(([scope, ...kept]): Scope => Object.fromEntries(Object.entries(scope).filter((_, at) => kept.includes(at))))

const moveOf = (change: Made) =>
  change.isNumber && !change.erased ? (rise(change.before, change.after)?.by ?? null) : null

/** A measure of some changes by another hand: one after the other. */
function figureOf(own: readonly Made[], measure: Measure, all: readonly Made[]): string | null {
  const different = (of: (change: Made) => unknown) => new Set(own.map(of)).size
  const moves = own
    .flatMap((change) => moveOf(change) ?? [])
    .map((by) => new Big(by))
    .sort((a, b) => a.cmp(b))
  const sumOf = (list: readonly Big[]) => list.reduce((total, one) => total.plus(one), new Big(0))
  const whole = () => (moves.length === 0 ? null : moves)
  switch (measure) {
    case 'saves':
    case 'share':
      return own.length === 0 && all.length > 0 ? null : String(different(({ saveId }) => saveId))
    case 'changes':
      return own.length === 0 ? null : String(own.length)
    case 'records':
      return String(different(({ typeId, key }) => `${typeId} ${key}`))
    case 'people': {
      const people = own.filter(({ actorKind }) => actorKind === 'person' || actorKind === 'delegate')
      return String(new Set(people.map(({ actorId }) => actorId)).size)
    }
    case 'net':
      return whole() && sumOf(moves).toFixed()
    case 'gross':
      return whole() && sumOf(moves.map((one) => one.abs())).toFixed()
    case 'mean':
      return whole() && sumOf(moves).div(moves.length).toFixed()
    case 'median':
      return (
        whole() &&
        moves[Math.floor((moves.length - 1) / 2)]!.plus(moves[Math.ceil((moves.length - 1) / 2)]!)
          .div(2)
          .toFixed()
      )
    case 'p90':
      return whole() && moves[Math.ceil(moves.length * 0.9) - 1]!.toFixed()
    case 'last':
      return own.length === 0 ? null : new Date(Math.max(...own.map(({ atMs }) => atMs))).toISOString()
  }
}

/** Amounts to ten places; nothing and no count at all are the same where nothing is in a scope. */
function sameFigure(a: string | null, b: string | null): boolean {
  if (a === null || b === null) return Number(a ?? 0) === Number(b ?? 0)
  if (b.includes('T')) return Date.parse(a) === Date.parse(b)
  return new Big(a).minus(b).abs().lt('1e-10')
}

const sum = (list: readonly { saves: number }[]) => list.reduce((total, one) => total + one.saves, 0)

describe('every reading counts what the scope means', () => {
  it('over time, by day, by actor, by type and by record, on random scopes', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, async (scope) => {
        const saves = new Set(expected([scope]).map((change) => change.saveId)).size
        const zone = 'Europe/London'
        for (const by of ['day', 'actor', 'type'] as const)
          expect(sum((await groupChanges(world.db, [scope], { by, zone, before: undefined }, nowMs)).groups), by).toBe(
            saves,
          )
        const { buckets } = await readActivity(world.db, [scope], zone, nowMs)
        const inTime = scope.when && !scope.when.exclude ? saves : undefined
        const shown = buckets.reduce((total, one) => total + Object.values(one.saves).reduce((a, b) => a + b, 0), 0)
        if (inTime !== undefined && buckets.length > 0) expect(shown).toBe(inTime)
        expect(sum((await listRecords(world.db, [scope], { order: 'most', page: 0 }, nowMs)).records)).toBe(saves)
        expect(sum((await readPairs(world.db, [scope], nowMs)).pairs)).toBe(saves)
      }),
      { numRuns: 60 },
    )
  })

  it('in another order, in pages of any size, all of them once and in that order', async () => {
    const keyOf = {
      channel: (save: SaveShown) => save.channel,
      save: (save: SaveShown) => save.id.padStart(12, '0'),
      who: (save: SaveShown) => (save.actor.knownAs ?? save.actor.name).toLowerCase(),
      reason: (save: SaveShown) => save.reason?.toLowerCase() ?? '\uffff',
    }
    const sorts = fc.constantFrom(...(Object.keys(keyOf) as (keyof typeof keyOf)[]))
    await fc.assert(
      fc.asyncProperty(anyScope, fc.integer({ min: 5, max: 60 }), sorts, async (scope, limit, sort) => {
        const shown: SaveShown[] = []
        for (let after: string | undefined; ;) {
          const page = await savePage(world.db, [scope], { after, limit, sort, descending: false, nowMs })
          shown.push(...page.saves)
          if (page.next === null) break
          after = page.next
        }
        expect(new Set(shown.map((save) => save.id))).toEqual(new Set(expected([scope]).map((change) => change.saveId)))
        const keys = shown.map(keyOf[sort])
        const order = new Intl.Collator('en').compare
        for (const [at, key] of keys.entries()) if (at > 0) expect(order(keys[at - 1]!, key)).toBeLessThanOrEqual(0)
      }),
      { numRuns: 25 },
    )
  })

  const held = ['held.1', 'held.2', 'held.4'] as const
  /** A member told by another hand. */
  function standsAt(dimension: Dimension, change: Made, zone: string): string | null {
    const fieldId = heldFieldOf(dimension)
    if (fieldId === null) return memberOf(dimension as FixedDimension, change, zone)
    const then = change.held!.find((one) => one.fieldId === fieldId && !one.now)
    return then ? JSON.stringify([then.value]) : null
  }

  /** Holds a pivot against what another hand makes of it. @returns in how many of its cells there is something */
  async function pivotAgrees(
    scope: Scope,
    rows: Dimension,
    columns: Dimension | null,
    measure: Measure,
    zone: string,
    top: number,
  ): Promise<number> {
    let met = 0
    const work = { ...firstWork.pivot, rows, columns, measure, top, empty: false }
    const answer = readPivot(world.db, [scope], { work, zone }, nowMs)
    const wanted = expected([scope])
    const values = [rows, columns].some((one) => one === 'before' || one === 'after')
    const differs = ofDifferences.has(measure)
    const fieldsMet = wanted.filter((change) => values || moveOf(change) !== null).map(({ fieldId }) => fieldId)
    const apart = !values && [rows, columns].includes('field')
    if ((values || differs) && !apart && new Set(fieldsMet).size > 1) {
      await expect(answer).rejects.toThrow('They are not put together')
      return met
    }
    const own = values ? wanted.filter((change) => !change.erased) : wanted
    const { rows: xs, columns: ys, cells, rowTotals, total, moreRows, moreColumns } = await answer
    const member = (dimension: Dimension | null, change: Made) =>
      dimension === null ? null : standsAt(dimension, change, zone)
    const at = (list: readonly { value: string | null }[], value: string | null) => {
      const place = list.findIndex((one) => one.value === value)
      return place < 0 ? list.length : place
    }
    const inRow = (x: number) => own.filter((change) => at(xs, member(rows, change)) === x)
    expect(new Set(own.map((change) => member(rows, change))).size).toBe(xs.length + moreRows)
    for (const [x, line] of cells.entries()) {
      if (!(apart && rows !== 'field'))
        expect(sameFigure(rowTotals[x]!, figureOf(inRow(x), measure, wanted))).toBe(true)
      for (const [y, cell] of line.entries()) {
        if (apart && ((rows === 'field' && x === xs.length) || (columns === 'field' && y === ys.length))) continue
        const there = inRow(x).filter((change) => at(ys, member(columns, change)) === y)
        met += there.length > 0 ? 1 : 0
        expect(
          sameFigure(cell, there.length === 0 ? null : figureOf(there, measure, wanted)),
          `${rows} ${columns} ${measure} ${cell}`,
        ).toBe(true)
      }
    }
    // Each of them leads to its saves by a sentence.
    for (const { value } of heldFieldOf(rows) === null ? [] : xs) {
      const cellWorld = { types: [], fields: [], actors: [], zone, nowMs }
      const others = moreRows === 0 ? xs.map((one) => one.value).filter((one) => one !== value) : undefined
      const meant = scopeOfMember(scope, rows, value, cellWorld, others)
      if (value === null && others?.length && !scope.holds) expect(meant).not.toBeNull()
      if (meant)
        expect(own.filter((change) => matches(meant, change, nowMs))).toEqual(
          own.filter((change) => standsAt(rows, change, zone) === value),
        )
    }
    if (!apart) expect(sameFigure(total, figureOf(own, measure, wanted))).toBe(true)
    expect(moreColumns === 0 || columns !== null).toBe(true)
    return met
  }

  it('in a pivot of any two dimensions and any measure, totals and the rest included', async () => {
    let met = 0
    const anyOne = fc.constantFrom(...dimensions, ...held)
    await fc.assert(
      fc.asyncProperty(
        shortScope,
        fc.tuple(anyOne, fc.option(anyOne)).filter(([rows, columns]) => rows !== columns),
        fc.constantFrom(...measures),
        fc.constantFrom(...zones),
        fc.integer({ min: 1, max: 8 }),
        async (scope, [rows, columns], measure, zone, top) => {
          met += await pivotAgrees(scope, rows, columns, measure, zone, top)
        },
      ),
      { numRuns: 60 },
    )
    expect(met).toBeGreaterThan(120)
  })

  it('in a pivot of months, wherever these begin by the clock of the zone', async () => {
    let met = 0
    const asked = shortScope.map(({ who, what, when, how }): Scope => ({
      ...(who && { who }),
      ...(what && what.types.length > 0 && { what: { ...what, fields: [] } }),
      ...(when && { when }),
      ...(how && how.channels.length > 0 && { how: { ...how, actions: [], runs: [], transactions: [] } }),
    }))
    const others = fc.constantFrom<Dimension>('who', 'kind', 'unit', 'area', 'type', 'channel')
    const months = fc.constantFrom<Dimension>('month', 'quarter')
    const sides = fc.oneof(
      fc.tuple(others, months),
      fc.tuple(months, others),
      fc.tuple(months, fc.constant(null)),
      fc.constant<[Dimension, Dimension]>(['month', 'quarter']),
    )
    await fc.assert(
      fc.asyncProperty(
        asked,
        sides,
        fc.constantFrom('saves' as const, 'changes' as const, 'share' as const),
        fc.constantFrom(...zones, ...farZones),
        async (scope, [rows, columns], measure, zone) => {
          met += await pivotAgrees(scope, rows, columns, measure, zone, 6)
        },
      ),
      { numRuns: 150 },
    )
    expect(met).toBeGreaterThan(200)
  })

  it('by a masked value’s order nothing is told of it', async () => {
    const byBefore = (masked: ReadonlySet<number>) =>
      sortedChanges(
        world.db,
        world.db('ledger.change as r').select('r.captured_at', 'r.save_id as id', 'r.field_id'),
        'before',
        { after: undefined, limit: 5000, descending: false, masked },
      )
    const byTime = [...(await byBefore(new Set(await world.db('spoor.field').pluck<number[]>('id')))).rows]
    expect(byTime).toEqual(
      [...byTime].sort((a, b) =>
        a.captured_at === b.captured_at ? Number(BigInt(b.id) - BigInt(a.id)) : a.captured_at < b.captured_at ? 1 : -1,
      ),
    )
    expect((await byBefore(new Set())).rows).not.toEqual(byTime)
  })

  it('change by change, in pages of any size and both ways', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, fc.integer({ min: 1, max: 50 }), fc.boolean(), async (scope, limit, descending) => {
        const ids: string[] = []
        for (let after: string | undefined; ;) {
          const page = await changePage(world.db, [scope], {
            after,
            limit: limit + 20,
            sort: 'time',
            descending,
            nowMs,
          })
          ids.push(...page.lines.map((line) => `${line.saveId}/${line.change.fieldId}`))
          if (page.next === null) break
          after = page.next
        }
        const wanted = expected([scope]).map((change) => `${change.saveId}/${change.fieldId}`)
        expect([...ids].sort()).toEqual(wanted.sort())
      }),
      { numRuns: 25 },
    )
  })
})

describe('SQL and in-memory matching agree on random scopes', () => {
  it('in counts', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, async (scope) => {
        const wanted = expected([scope])
        expect(await summarise(world.db, [scope], nowMs)).toMatchObject({
          saves: new Set(wanted.map((c) => c.saveId)).size,
          changes: wanted.length,
        })
      }),
      { numRuns: 150 },
    )
  })

  it('in counts of what two scopes mean at once, as of a question within a reach', async () => {
    // Failed once: a record asked for within a reach of what is assigned.
    const oneRecord: Scope = {
      record: { part: 'record', exclude: false, lines: false, records: [{ typeId: 1, key: '["1"]' }] },
    }
    const assigned: Scope = { state: { part: 'state', exclude: false, states: ['assigned'], stories: [] } }
    await fc.assert(
      fc.asyncProperty(anyScope, anyScope, async (asked, reach) => {
        const wanted = expected([asked, reach])
        expect(await summarise(world.db, [asked, reach], nowMs)).toMatchObject({
          saves: new Set(wanted.map((c) => c.saveId)).size,
          changes: wanted.length,
        })
      }),
      { numRuns: 100, examples: [[oneRecord, assigned]] },
    )
  })

  it('in pages of any size, newest first, none missing, none twice', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, anyScope, fc.integer({ min: 7, max: 120 }), async (scope, reach, limit) => {
        const wanted = [...new Set(expected([scope, reach]).map((change) => Number(change.saveId)))]
          .sort((a, b) => b - a)
          .map(String)
        expect(await everySave([scope, reach], limit)).toEqual(wanted)
      }),
      { numRuns: 60 },
    )
  })

  it('in which changes of a save are in scope', async () => {
    await fc.assert(
      fc.asyncProperty(anyScope, async (scope) => {
        const page = await savePage(world.db, [scope], { after: undefined, limit: 200, nowMs })
        const shown = page.saves.flatMap((save) =>
          save.changes.filter((change) => change.inScope).map((change) => `${save.id}/${change.fieldId}`),
        )
        const onPage = new Set(page.saves.map((save) => save.id))
        expect(shown.sort()).toEqual(
          expected([scope])
            .filter((c) => onPage.has(c.saveId))
            .map((c) => `${c.saveId}/${c.fieldId}`)
            .sort(),
        )
      }),
      { numRuns: 60 },
    )
  })
})

describe('saves of one run in one line', () => {
  /** Ids as they are shown: of a run that has five saves or more in scope the newest only. */
  function together(newestFirst: readonly string[]): string[] {
    const runOf = (id: string) => changes.find((change) => change.saveId === id)!.runId
    const sizes = new Map<number, number>()
    for (const id of newestFirst) sizes.set(runOf(id), (sizes.get(runOf(id)) ?? 0) + 1)
    const met = new Set<number>()
    return newestFirst.filter((id) => {
      const first = !met.has(runOf(id))
      met.add(runOf(id))
      return first || sizes.get(runOf(id))! < 5
    })
  }

  /** One part of a scope at most, so that enough stays in it for runs to be long. */
  const wide = fc.tuple(anyScope, fc.nat()).map(([scope, at]): Scope => {
    const parts = partsOf(scope)
    return parts.length === 0 ? {} : withPart({}, parts[at % parts.length]!)
  })

  it('stand where the newest stands, whatever is asked and however long the pages are', async () => {
    let lines = 0
    await fc.assert(
      fc.asyncProperty(wide, wide, fc.integer({ min: 1, max: 30 }), async (scope, reach, limit) => {
        // What somebody may see is never said in runs.
        const scopes = [scope, reach.how ? {} : reach]
        const flat = [...new Set(expected(scopes).map((change) => change.saveId))].sort((a, b) => Number(b) - Number(a))
        const named = scope.how !== undefined && !scope.how.exclude && scope.how.runs.length > 0
        const ids: string[] = []
        for (let after: string | undefined; ;) {
          const page = await savePage(world.db, scopes, { after, limit, nowMs, together: true })
          ids.push(...page.saves.map((save) => save.id))
          for (const line of page.runs) {
            lines++
            const own = expected(scopes).filter((change) => change.runId === line.runId)
            const saves = new Set(own.map((change) => change.saveId))
            expect(saves).toContain(line.saveId)
            expect(line.saves).toBe(saves.size)
            expect(line.types.reduce((sum, type) => sum + type.records, 0)).toBe(
              new Set(own.map(({ typeId, key }) => `${typeId}${key}`)).size,
            )
            expect(line.oneActor).toBe(new Set(own.map((change) => change.actorId)).size === 1)
            expect(line.oneReason).toBe(new Set(own.map((change) => change.reason ?? '')).size === 1)
            expect(new Set(line.fields.map((field) => field.fieldId))).toEqual(new Set(own.map((one) => one.fieldId)))
            for (const field of line.fields)
              for (const side of ['before', 'after'] as const) heldAs(field[side], field.fieldId, own, side)
          }
          if (page.next === null) break
          after = page.next
        }
        expect(ids).toEqual(named ? flat : together(flat))
      }),
      { numRuns: 150 },
    )
    expect(lines).toBeGreaterThan(50)
  })

  function heldAs(held: Held, fieldId: number, own: readonly Made[], side: 'before' | 'after') {
    const of = own.filter((change) => change.fieldId === fieldId)
    const distinct = new Set(of.map((change) => change[side]))
    if (of.some((change) => change.erased)) expect(held).toEqual({ held: 'various' })
    else if (distinct.size === 1) expect(held).toEqual({ held: 'one', value: of[0]![side] })
    else if (fieldId % 2 === 0 && [...distinct].every((value) => value !== null && /^-?\d+(\.\d+)?$/.test(value))) {
      const numbers = [...distinct].map(Number)
      expect(held.held).toBe('span')
      if (held.held !== 'span') return
      expect([Number(held.least), Number(held.most)]).toEqual([Math.min(...numbers), Math.max(...numbers)])
    } else expect(held).toEqual({ held: 'various' })
  }

  it('tell nothing of a masked field', async () => {
    const version = { source_id: world.sourceId, version: 999 }
    await world.db('spoor.plan_version').insert({
      ...version,
      state: 'in force',
      reason: 'to be masked',
      plan: { types: { 1: { fields: { 2: { masked: true } } } } },
    })
    const { runs } = await savePage(world.db, [{}], { after: undefined, limit: 10, nowMs, together: true })
    await world.db('spoor.plan_version').where(version).delete()
    const sides = runs.flatMap((line) =>
      line.fields.flatMap(({ fieldId, before, after }) => [
        [fieldId, before.held],
        [fieldId, after.held],
      ]),
    )
    expect(sides.filter(([fieldId]) => fieldId === 2).every(([, held]) => held === 'masked')).toBe(true)
    expect(sides.filter(([, held]) => held === 'masked')).not.toHaveLength(0)
    expect(sides.filter(([, held]) => held !== 'masked')).not.toHaveLength(0)
  })
})
