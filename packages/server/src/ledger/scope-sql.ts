import {
  assertNever,
  casesOf,
  daysOf,
  instantsOf,
  partsOf,
  transactionsOf,
  type ChangeState,
  type Scope,
  type ScopedChange,
  type ScopePart,
  type ValueTest,
} from '@spoor/core'
import type { Knex } from 'knex'
import { heldBy, heldHolds, type RowColumns } from './held-sql.ts'
import { caseSaves } from './case-saves.ts'

/** `change` rows have a field and values; `save` rows stand for all their changes (see {@link asksChanges}). */
export type Level = 'change' | 'save'

/**
 * Adds a scope's conditions to a query over `ledger.save` or `ledger.change` under the given alias. A save is in
 * scope when one of its changes is. Held against core's `matches` on random data by a test.
 */
export function whereScope(
  query: Knex.QueryBuilder,
  scope: Scope,
  level: Level,
  alias: string,
  nowMs: number,
): Knex.QueryBuilder {
  return whereScopes(query, [scope], level, alias, nowMs)
}

/** The same for several scopes: a save is in all of them when one and the same change of it is. */
export function whereScopes(
  query: Knex.QueryBuilder,
  scopes: readonly Scope[],
  level: Level,
  alias: string,
  nowMs: number,
): Knex.QueryBuilder {
  if (level === 'save' && scopes.some(asksChanges))
    return query.whereExists((exists) => {
      exists
        .select(1)
        .from('ledger.change as one')
        .whereRaw('one.save_id = ?? and one.captured_at = ??', [`${alias}.id`, `${alias}.captured_at`])
      whereScopes(exists, scopes, 'change', 'one', nowMs)
    })
  for (const scope of scopes) for (const part of partsOf(scope)) wherePart(query, part, level, alias, nowMs)
  return query
}

function wherePart(query: Knex.QueryBuilder, part: ScopePart, level: Level, alias: string, nowMs: number): void {
  const column = (name: string) => `${alias}.${name}`
  const add = (condition: Knex.QueryCallback) => (part.exclude ? query.whereNot(condition) : query.where(condition))
  switch (part.part) {
    case 'who':
      add((q) => q.whereIn(column('actor_id'), [...part.actors]).orWhereIn(column('actor_kind'), [...part.kinds]))
      return
    case 'record':
      add((q) =>
        part.records.forEach((record) => {
          q.orWhere({ [column('type_id')]: record.typeId, [column('record_key')]: record.key })
          // Asked so that the answer is never NULL: a condition turned round would lose rows that are no lines.
          if (part.lines)
            q.orWhereRaw('(?? is not null and ?? = ? and ?? = ?)', [
              column('parent_key'),
              column('parent_type_id'),
              record.typeId,
              column('parent_key'),
              record.key,
            ])
        }),
      )
      return
    case 'holds':
      add((q) => part.tests.forEach((test) => q.whereRaw(...heldHolds(test, rowColumns(level, alias)))))
      return
    case 'when': {
      if (part.effective) {
        const { from, to } = daysOf(part.span, nowMs)
        const [day, bound] = dayOfEffect(level, alias)
        add((q) =>
          q.whereRaw(`coalesce((${day}) between ? and ?, false)`, [...bound, from ?? '0000', to ?? '9999-99-99']),
        )
        return
      }
      const { fromMs, toMs } = instantsOf(part.span, nowMs)
      add((q) => {
        if (fromMs !== null) q.where(column('captured_at'), '>=', new Date(fromMs).toISOString())
        if (toMs !== null) q.where(column('captured_at'), '<', new Date(toMs).toISOString())
      })
      return
    }
    case 'clock':
      add((q) => {
        const clock = `?? at time zone ?`
        const bound = [column('captured_at'), part.zone]
        if (part.hours.length > 0)
          q.whereRaw(`extract(hour from ${clock})::int = any(?::int[])`, [...bound, [...part.hours]])
        if (part.weekdays.length > 0)
          q.whereRaw(`extract(isodow from ${clock})::int = any(?::int[])`, [...bound, [...part.weekdays]])
      })
      return
    case 'what':
      add((q) => {
        q.whereIn(column('type_id'), [...part.types])
        if (part.fields.length > 0) q.orWhereIn(column('field_id'), [...part.fields])
      })
      return
    case 'how':
      add((q) =>
        ofSave(q, level, alias, (save, of) => {
          if (part.actions.length > 0)
            save.where((any) =>
              any
                .whereIn(
                  of('action'),
                  part.actions.filter((action) => action !== 'restore'),
                )
                .orWhere((one) => (part.actions.includes('restore') ? wasDeleted(one, of) : one.whereRaw('false'))),
            )
          if (part.channels.length > 0) save.whereIn(of('channel'), [...part.channels])
          // Saves from before runs were kept have none; asked so that the answer is never NULL.
          if (part.runs.length > 0) save.whereNotNull(of('run_id')).whereIn(of('run_id'), [...part.runs])
          if (transactionsOf(part).length > 0)
            save.whereRaw(
              `(??, ??) in (select its_own.source_id, its_own.transaction_id from ledger.save its_own where its_own.id = any(?::bigint[]))`,
              [of('source_id'), of('transaction_id'), [...transactionsOf(part)]],
            )
        }),
      )
      return
    case 'reason':
      add((q) =>
        ofSave(q, level, alias, (save, of) => {
          save.whereNotNull(of('reason'))
          if (part.contains !== null) save.whereRaw(`?? ilike ? escape '\\'`, [of('reason'), anywhere(part.contains)])
        }),
      )
      return
    case 'state':
      add((q) => {
        part.states.forEach((state) => q.orWhere((one) => stateHolds(one, state, level, alias)))
        if (part.stories.length > 0)
          q.orWhereExists((told) =>
            told
              .select(1)
              .from('spoor.story_save as told')
              .whereRaw('told.save_id = ??', [level === 'save' ? `${alias}.id` : `${alias}.save_id`])
              .whereIn('told.story_id', [...part.stories]),
          )
        if (casesOf(part).length > 0) {
          const [sql, bound] = caseSaves(casesOf(part))
          q.orWhereRaw(`?? in (select gathered.save_id from (${sql}) as gathered)`, [
            level === 'save' ? `${alias}.id` : `${alias}.save_id`,
            ...bound,
          ])
        }
      })
      return
    case 'value':
      // Asked of changes only: a save is in scope when one change of it fits every part.
      add((q) => part.tests.forEach((test) => valueHolds(q, test, alias, part.exclude)))
      return
    default:
      assertNever(part)
  }
}

/** The columns by which {@link heldBy} finds the record of a row. */
export const rowColumns = (level: Level, alias: string): RowColumns => ({
  id: level === 'save' ? `${alias}.id` : `${alias}.save_id`,
  at: `${alias}.captured_at`,
  typeId: `${alias}.type_id`,
  key: `${alias}.record_key`,
  parentTypeId: `${alias}.parent_type_id`,
  parentKey: `${alias}.parent_key`,
})

/**
 * The record's own day of effect after a save (of a deletion: before it) as `YYYY-MM-DD`; null where the type names no
 * field for it, where none is known so early, and where what the field holds is no day.
 */
function dayOfEffect(level: Level, alias: string): [sql: string, bindings: string[]] {
  const own = [
    `${alias}.type_id`,
    `${alias}.type_id`,
    `${alias}.record_key`,
    `${alias}.captured_at`,
    level === 'save' ? `${alias}.id` : `${alias}.save_id`,
  ]
  return [
    `select case when day ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}' then left(day, 10) end
       from (select case when e.after is not null then e.after
                         when (select l.action from ledger.save l where l.id = e.save_id and l.captured_at = e.captured_at) = 'delete' then e.before
                    end as day
               from spoor.record_type et
               join ledger.change e on e.field_id = et.effective_field_id
              where et.id = ?? and e.type_id = ?? and e.record_key = ?? and (e.captured_at, e.save_id) <= (??, ??)
              order by e.captured_at desc, e.save_id desc limit 1) as latest`,
    own,
  ]
}

/** Of a save what stands elsewhere in the ledger. */
export interface History {
  /** Whether it brought a deleted record back. */
  restored: boolean
  effectiveOn: string | null
  /** Saves that a scope names whose transaction made this one too. */
  transactionOf: string[]
  /** Cases that a scope names in which it is gathered. */
  cases: number[]
  held: NonNullable<ScopedChange['held']>
}

/** Of some saves, what other saves tell of them. Nothing is asked of the database unless a scope asks for it. */
export async function historyOf(
  db: Knex,
  saves: readonly { id: string; captured_at: string }[],
  scopes: readonly Scope[],
): Promise<Map<string, History>> {
  const named = scopes.flatMap((scope) => (scope.how ? transactionsOf(scope.how) : []))
  const asked = scopes.some((scope) => scope.when?.effective || scope.how?.actions.includes('restore'))
  const cases = scopes.flatMap((scope) => (scope.state ? casesOf(scope.state) : []))
  // What many scopes ask for is asked once.
  const tests = [
    ...new Map(
      scopes.flatMap((scope) => scope.holds?.tests ?? []).map((test) => [`${test.fieldId} ${test.now}`, test]),
    ).values(),
  ]
  if ((!asked && named.length + cases.length + tests.length === 0) || saves.length === 0) return new Map()
  const held = tests.map((test) => ({ ...test, sql: heldBy(test, rowColumns('save', 's')) }))
  const [day, bound] = dayOfEffect('save', 's')
  const [gathered, boundCases] = caseSaves(cases)
  const rows = await db('ledger.save as s')
    .whereIn(
      's.captured_at',
      saves.map((save) => save.captured_at),
    )
    .whereIn(
      's.id',
      saves.map((save) => save.id),
    )
    .select<
      {
        id: string
        restored: boolean
        effective_on: string | null
        transaction_of: string[]
        cases: number[]
        /** By test, in a list of one; null where it is not known. */
        held: ([string | null] | null)[]
      }[]
    >(
      's.id',
      db.raw(
        `array(select n.id::text from ledger.save n where n.id = any(?::bigint[]) and n.source_id = s.source_id
                and n.transaction_id = s.transaction_id) as transaction_of`,
        [named],
      ),
      cases.length === 0
        ? db.raw(`'{}'::int[] as cases`)
        : db.raw(
            `array(select distinct g.case_id from (${gathered}) as g where g.save_id = s.id) as cases`,
            boundCases,
          ),
      db.raw(
        `json_build_array(${held.map(({ sql }) => sql[0]).join(', ')}) as held`,
        held.flatMap(({ sql }) => sql[1]),
      ),
      db.raw(`(${day}) as effective_on`, bound),
      db.raw('exists ? as restored', [db.select(db.raw('1')).where((q) => wasDeleted(q, (name) => `s.${name}`))]),
    )
  return new Map(
    rows.map((row) => [
      row.id,
      {
        restored: row.restored,
        effectiveOn: row.effective_on,
        transactionOf: row.transaction_of,
        cases: row.cases,
        held: held.flatMap(({ fieldId, now }, at) => {
          const known = row.held[at]
          return known ? [{ fieldId, now, value: known[0] }] : []
        }),
      },
    ]),
  )
}

function wasDeleted(query: Knex.QueryBuilder, of: (name: string) => string): void {
  query
    .where(of('action'), 'create')
    .whereRaw(
      `exists (select from ledger.save gone where gone.action = 'delete' and gone.type_id = ?? and gone.record_key = ?? and gone.captured_at < ??)`,
      [of('type_id'), of('record_key'), of('captured_at')],
    )
}

/** What holds of the save that a row is or belongs to; `column` names a column of that save. */
function ofSave(
  query: Knex.QueryBuilder,
  level: Level,
  alias: string,
  condition: (save: Knex.QueryBuilder, column: (name: string) => string) => void,
): void {
  if (level === 'save') {
    query.where((save) => condition(save, (name) => `${alias}.${name}`))
    return
  }
  query.whereExists((exists) => {
    exists
      .select(1)
      .from('ledger.save as its')
      .whereRaw('its.id = ?? and its.captured_at = ??', [`${alias}.save_id`, `${alias}.captured_at`])
    condition(exists, (name) => `its.${name}`)
  })
}

function stateHolds(query: Knex.QueryBuilder, state: ChangeState, level: Level, alias: string): void {
  const saveId = level === 'save' ? `${alias}.id` : `${alias}.save_id`
  switch (state) {
    case 'reviewed':
    case 'flagged':
      query.whereRaw('exists (select from spoor.mark m where m.save_id = ?? and m.mark = ?)', [saveId, state])
      return
    case 'asked':
    case 'answered':
      query.whereRaw(
        `exists (select from spoor.question_save qs join spoor.question q on q.id = qs.question_id
          where qs.save_id = ?? and (q.answered_at is null) = ?)`,
        [saveId, state === 'asked'],
      )
      return
    case 'assigned':
      query.whereRaw(
        `exists (select from spoor.assignment_save of_save join spoor.assignment given on given.id = of_save.assignment_id
          where of_save.save_id = ?? and given.done_at is null)`,
        [saveId],
      )
      return
    case 'reverted':
      query.whereRaw(
        `exists (select from spoor.correction_change cc join spoor.correction_item i on i.id = cc.item_id
          where cc.save_id = ?? and cc.field_id = ?? and i.written)`,
        [saveId, `${alias}.field_id`],
      )
      return
    case 'correction':
      ofSave(query, level, alias, (save, of) => save.whereNotNull(of('correction_id')))
      return
    default:
      assertNever(state)
  }
}

/** A pattern of LIKE that holds a text anywhere; the text's own signs mean nothing. */
export const anywhere = (text: string) => `%${text.replace(/[\\%_]/g, '\\$&')}%`

/** ASCII is folded byte by byte, which is several times as fast as by the rules of all letters. */
const ascii = /^[\x20-\x7e]*$/

/** @param turned whether the condition stands turned round, so that it must never be NULL; the planner reads it better plain */
function containsText(query: Knex.QueryBuilder, text: string, columns: readonly string[], turned: boolean): void {
  const [one, pattern] = ascii.test(text)
    ? [`lower(?? collate "C") like ? escape '\\'`, anywhere(text.toLowerCase())]
    : [`?? ilike ? escape '\\'`, anywhere(text)]
  const either = columns.map(() => (turned ? `coalesce(${one}, false)` : one)).join(' or ')
  query.whereRaw(
    `(${either})`,
    columns.flatMap((column) => [column, pattern]),
  )
}

function valueHolds(query: Knex.QueryBuilder, test: ValueTest, alias: string, exclude: boolean): void {
  const [before, after] = [`${alias}.before`, `${alias}.after`]
  switch (test.test) {
    case 'from':
      query.whereRaw('(not ?? and ?? is not distinct from ?)', [`${alias}.erased`, before, test.value as string])
      return
    case 'to':
      query.whereRaw('(not ?? and ?? is not distinct from ?)', [`${alias}.erased`, after, test.value as string])
      return
    case 'contains':
      containsText(query, test.text, [before, after], exclude)
      return
    case 'rose':
    case 'fell':
      moved(query, test, alias)
      return
    default:
      assertNever(test)
  }
}

/** A share of a double is near enough to skip by; the exact comparison decides. */
const nearlyOne = 1 - 1e-9

function moved(
  query: Knex.QueryBuilder,
  { test, by, percent }: Extract<ValueTest, { by: string }>,
  alias: string,
): void {
  const [rise, share] = [`${alias}.rise`, `${alias}.rise_share`]
  const sign = test === 'rose' ? 1 : -1
  query.whereNotNull(rise)
  if (!percent) {
    query.whereRaw(`?? * ${sign} > ?::numeric`, [rise, by])
    return
  }
  const least = (Number(by) / 100) * nearlyOne
  query.whereNotNull(share).whereRaw(test === 'rose' ? '?? >= ?' : '?? <= ?', [share, sign * least])
  query.whereRaw(`?? * ${sign * 100} > ?::numeric * abs(case when ?? is not null then ??::numeric end)`, [
    rise,
    by,
    rise,
    `${alias}.before`,
  ])
}

/** Whether a scope can only be decided change by change. */
export function asksChanges(scope: Scope): boolean {
  return (
    (scope.what?.fields.length ?? 0) > 0 ||
    scope.value !== undefined ||
    (scope.state?.states.includes('reverted') ?? false)
  )
}
