import type { Guard, GuardAct, GuardTimes } from '@spoor/core'
import { quoteLiteral } from '../database/identifier.ts'
import { columnsHere, fitted, shapeChanged, variables } from './function-text.ts'
import { named, numbered, Statements } from './statements.ts'
import {
  qualified,
  type CapturedColumn,
  type CapturedField,
  type CapturedTable,
  type CaptureEvent,
  type TableName,
} from './table.ts'
import { op, together, ValueText, type RowOf } from './value-text.ts'

/** A guard with what is known of those it names. */
export interface InstalledGuard {
  guardId: number
  guard: Guard
  /** The names under which the people it names say who they are. */
  said: readonly string[]
  /** Logins by which they are known where nobody says who acts. */
  logins: readonly string[]
  /** Where the other field is one of the record whose line it is: there it stands. */
  parent: (TableName & { keyColumns: readonly CapturedColumn[]; column: CapturedColumn }) | null
}

const actions: Readonly<Record<CaptureEvent, GuardAct>> = {
  insert: 'create',
  update: 'change',
  delete: 'delete',
  truncate: 'delete',
}

/** The sequence that counts refusals: it goes on when a transaction is taken back, which a row would not. */
export const refusalsOf = (guardId: number) => `spoor_capture.guard_${guardId}_refused`

export function guardsSql({ guards }: Pick<CapturedTable, 'guards'>): string {
  return guards.map(({ guardId }) => `create sequence if not exists ${refusalsOf(guardId)} cache 1;\n`).join('')
}

/** Takes off what guards that are no more have left. */
export function forgetGuardsSql(kept: readonly number[]): string {
  return `do $guards$
declare
  one text;
begin
  for one in select c.relname from pg_catalog.pg_class c where c.relnamespace = 'spoor_capture'::pg_catalog.regnamespace and c.relkind = 'S'
    and c.relname ~ '^guard_[0-9]+_refused$' and c.relname <> all (array[${kept.map((guardId) => quoteLiteral(`guard_${guardId}_refused`)).join(', ')}]::text[])
  loop
    execute pg_catalog.format('drop sequence spoor_capture.%I', one);
  end loop;
  delete from spoor_capture.guard_open where guard <> all (array[${kept.join(', ')}]::int[]);
end $guards$;
`
}

/** The rows at hand where a statement wrote one alone: as it was, and as it is. */
export interface OneRow {
  o: RowOf | null
  n: RowOf | null
}

/**
 * What the guards of a type ask of the rows that a statement has just captured. They are asked before what those caused is put
 * in order behind them: until then they are the last that the transaction wrote.
 * @param old where rows are read as they were, of an update
 * @param one the rows, where there is one alone: those are asked as they are, without a query
 */
export function askGuards(table: CapturedTable, event: CaptureEvent, old: OldRows | null, one: OneRow | null): string {
  const asked = table.guards.filter(({ guard }) => guard.acts.includes(actions[event]))
  if (asked.length === 0) return ''
  const fixed = question(table, asked, event, old?.fixed ?? null, false)
  const shifted = question(table, asked, event, old?.shifted ?? null, true)
  const meet = `
      perform spoor_capture.meet_guard(spoor.met.guard, ${oneOf(asked, 'spoor.met.guard', ({ guard }) => quoteLiteral(guard.mode))}, ${oneOf(asked, 'spoor.met.guard', ({ guard }) => quoteLiteral(guard.words))},
        ${table.typeId}, spoor.met.action, spoor.met.key, spoor.met.label, ${oneOf(asked, 'spoor.met.guard', ({ guard }) => String(guard.fieldId ?? 'null::pg_catalog.int4'))}, ${believed(table)});`
  const using = old?.using ? `, ${old.using}` : ''
  // Of columns that are not what they were nobody knows what a guard would say: the business goes on, and it is told.
  const heard = (work: string) => `
      begin${work}
      exception
        when sqlstate 'SPR03' then raise;
        when others then perform spoor_capture.note_missed(${table.typeId}, TG_RELID, TG_OP, SQLSTATE, pg_catalog.concat('A guard could not be asked: ', SQLERRM));
      end;`
  const loop = `
        for spoor.met in ${fixed.all} loop${meet}
        end loop;`
  const many = `
      if ${fixed.any} then${loop}
      end if;`
  const alone = one
    ? `
      if ${variables.delta} ${op.differs} '' then
        spoor.v_told := (${together(`'{'`, `pg_catalog.substr(${variables.delta}, 2)`, `'}'`)})::pg_catalog.json;
        if ${asked.map((guard) => `(${new Condition(table, guard, ofOne(table, event, one)).sql()})`).join(' or ')} then${loop}
        end if;
      else${many}
      end if;`
    : many
  return `
  if ${variables.written} operator(pg_catalog.>) 0 then
    if ${shapeChanged(table)} then${heard(`
        for spoor.met in execute ${fitted(shifted.all)} using ${variables.written}, ${variables.at}${using} loop${meet}
        end loop;`)}
    else${asked.some(({ parent }) => parent) ? heard(alone) : alone}
    end if;
  end if;`
}

/** Where the rows are read that an update changed, as they were: the continuation of a select list. */
export interface OldRows {
  fixed: { from: string; row: RowOf }
  shifted: { from: string; row: RowOf }
  /** What the shifted statement is given beside the count and the time, from `$3` on. */
  using: string | null
}

export const oldRowsOfStatement = (list: string): OldRows => ({
  fixed: { from: `(select ${list} from old_rows x) x`, row: numbered('x') },
  shifted: { from: `(select ${columnsHere} from old_rows x) x`, row: numbered('x') },
  using: null,
})

export const oldRow: OldRows = {
  fixed: { from: '(select old.*) x', row: named('x') },
  shifted: { from: `(select ${columnsHere} from (select ($3).*) x) x`, row: numbered('x') },
  using: 'old',
}

/** Where a condition finds what it asks of. */
interface Told {
  /** How many records the statement wrote, and when. */
  written: string
  at: string
  /** The changes as JSON, by field. */
  delta: string
  /** Whether the row tells of the act that is asked about; null where it does in any case. */
  isAct: string | null
  held(fieldId: number): string
  /** A part of the key of the record whose line it is. */
  parentPart(at: number): string
}

const part = (pair: string, at: 0 | 1) => `(${pair} operator(pg_catalog.->>) ${at})`
const pairOf = (delta: string, fieldId: number) => `${delta} operator(pg_catalog.->) '${fieldId}'`

/** Of a row `w` of the outbox, and of `o`, the record as it was. */
function ofMany(event: CaptureEvent, { written, at }: Pick<Told, 'written' | 'at'>): Told {
  return {
    written,
    at,
    delta: 'w.delta',
    isAct: `w.action ${op.equals} '${actions[event]}'`,
    held: (fieldId) =>
      event === 'update' ? `o.f${fieldId}` : part(pairOf('w.delta', fieldId), event === 'insert' ? 1 : 0),
    parentPart: (n) => `(w.parent_key::pg_catalog.json operator(pg_catalog.->>) ${n})`,
  }
}

/** Of the one row that is at hand. */
function ofOne(table: CapturedTable, event: CaptureEvent, { o, n }: OneRow): Told {
  const texts = new ValueText({ shifted: false })
  return {
    written: variables.written,
    at: variables.at,
    delta: 'spoor.v_told',
    isAct: null,
    held: (fieldId) => `(${texts.text(fieldOf(table, fieldId), event === 'insert' ? n! : o!)})`,
    parentPart: (at) => `(${texts.text(table.parentColumns[at]!, (n ?? o)!)})`,
  }
}

function oneOf(asked: readonly InstalledGuard[], by: string, of: (one: InstalledGuard) => string): string {
  return `case ${by} ${asked.map((one) => `when ${one.guardId} then ${of(one)}`).join(' ')} end`
}

function question(
  table: CapturedTable,
  asked: readonly InstalledGuard[],
  event: CaptureEvent,
  old: OldRows['fixed'] | null,
  shifted: boolean,
): { any: string; all: string } {
  const [written, at] = shifted ? ['$1', '$2'] : [variables.written, variables.at]
  const conditions = asked.map((one) => new Condition(table, one, ofMany(event, { written, at })).sql())
  const rows = `(select b.seq, b.action, b.key, b.key_before, b.label, b.parent_key, b.delta::pg_catalog.json as delta from spoor_capture.outbox b
        where b.transaction_id ${op.equals} pg_catalog.pg_current_xact_id() and b.type_id ${op.equals} ${table.typeId} order by b.seq desc limit ${written}) w`
  const held = event === 'update' ? heldFields(asked) : []
  const statements = new Statements(table, 0, { shifted, salt: '' })
  const texts = new ValueText({ shifted })
  const columns = held.map((fieldId) => `${texts.text(fieldOf(table, fieldId), old!.row)} as f${fieldId}`)
  // FULL JOIN, because another is planned for the first, small statement of a session as a nested loop and kept.
  const joined =
    held.length === 0
      ? ''
      : `
        full join (select ${[`${statements.key(old!.row)} as key`, ...columns].join(', ')} from ${old!.from}) o on o.key ${op.equals} coalesce(w.key_before, w.key)`
  const from = `from ${rows}${joined}`
  const met = `array[${asked.map(({ guardId }, n) => `case when ${conditions[n]!} then ${guardId} end`).join(', ')}]::pg_catalog.int4[]`
  return {
    any: `exists (select ${from}
       where ${conditions.map((one) => `(${one})`).join(' or ')})`,
    all: `select m.guard, w.action, w.key, w.label ${from}
        cross join lateral pg_catalog.unnest(${met}) as m(guard) where m.guard is not null order by w.seq, m.guard`,
  }
}

const heldFields = (asked: readonly InstalledGuard[]) => [
  ...new Set(asked.flatMap(({ guard, parent }) => (guard.held && !parent ? [guard.held.fieldId] : []))),
]

function fieldOf(table: CapturedTable, fieldId: number): CapturedField {
  return table.fields.find((field) => field.fieldId === fieldId)!
}

/** Whether the login is one whose word is believed about who acts. */
const believed = ({ declaring }: CapturedTable) => isIn('session_user::pg_catalog.text', declaring)

const exact = (text: string) => `(${text}) collate pg_catalog."C"`

function isIn(text: string, list: readonly string[]): string {
  if (list.length === 0) return 'false'
  return `(${exact(text)} ${op.equals} any (array[${list.map(quoteLiteral).join(', ')}]::pg_catalog.text[]))`
}

/** Is one of some values, NULL among them; never NULL itself. */
function isOne(text: string, values: readonly (string | null)[]): string {
  const present = values.filter((value) => value !== null)
  const among = present.length === 0 ? 'false' : `coalesce(${isIn(text, present)}, false)`
  return values.includes(null) ? `(${text} is null or ${among})` : among
}

const decimal = quoteLiteral('^-?[0-9]+([.][0-9]+)?([eE][-+]?[0-9]{1,3})?$')
const moment = quoteLiteral('^[0-9]{4}-[0-9]{2}-[0-9]{2}( [0-9]{2}:[0-9]{2}:[0-9]{2}([.][0-9]+)?([+]00)?)?$')
const longestDecimal = 60

/** One guard as a condition. The same as `guardMeets` of core. */
class Condition {
  readonly #table: CapturedTable
  readonly #installed: InstalledGuard
  readonly #told: Told

  constructor(table: CapturedTable, installed: InstalledGuard, told: Told) {
    this.#table = table
    this.#installed = installed
    this.#told = told
  }

  /** The cheap first, in a CASE each, since what is joined by AND is asked in any order. */
  sql(): string {
    const { guard } = this.#installed
    const parts = [
      ...(guard.above === null ? [] : [`${this.#told.written} operator(pg_catalog.>) ${guard.above}`]),
      ...(this.#told.isAct === null ? [] : [this.#told.isAct]),
      ...(guard.times ? [this.#within(guard.times, guard.zone)] : []),
      ...(guard.fieldId === null ? [] : this.#ofField(guard.fieldId)),
      ...(guard.held ? [this.#held(guard.held)] : []),
      ...(guard.withoutReason
        ? [`spoor_capture.reason_of(pg_catalog.current_setting('spoor.context', true)) is null`]
        : []),
      ...(guard.by ? [this.#by()] : []),
    ]
    if (parts.length === 0) return 'true'
    return parts.reduceRight((rest, one) => (rest === '' ? one : `case when ${one} then ${rest} else false end`), '')
  }

  #ofField(fieldId: number): string[] {
    const field = fieldOf(this.#table, fieldId)
    const pair = pairOf(this.#told.delta, fieldId)
    const [before, after] = [part(pair, 0), part(pair, 1)]
    const { test } = this.#installed.guard
    const there = `${pair} is not null`
    switch (test.test) {
      case 'any':
        return [there]
      case 'from':
        return [there, isOne(before, test.values)]
      case 'to':
        return [there, isOne(after, test.values)]
      case 'to-other':
        return [there, `not ${isOne(after, test.values)}`]
      case 'outside': {
        const parts = [
          ...(test.least === null ? [] : [`${numberOf(after)} operator(pg_catalog.<) ${numeric(test.least)}`]),
          ...(test.most === null ? [] : [`${numberOf(after)} operator(pg_catalog.>) ${numeric(test.most)}`]),
        ]
        return [there, `coalesce(${parts.join(' or ')}, false)`]
      }
      case 'rises':
      case 'falls': {
        const [low, high] = test.test === 'rises' ? [before, after] : [after, before]
        const by = `(${numberOf(high)} operator(pg_catalog.-) ${numberOf(low)})`
        const more = test.share
          ? `(${numberOf(before)} ${op.differs} 0) and (${by} operator(pg_catalog.*) 100) operator(pg_catalog.>) (pg_catalog.abs(${numberOf(before)}) operator(pg_catalog.*) ${numeric(test.by)})`
          : `${by} operator(pg_catalog.>) ${numeric(test.by)}`
        return [there, `coalesce(${more}, false)`]
      }
      case 'emptied': {
        const nothing = field.baseType.startsWith('_') ? '{}' : ''
        return [there, `not ${isOne(before, [null, nothing])}`, isOne(after, [null, nothing])]
      }
      case 'shrinks': {
        const members = (text: string) => `coalesce(${text}, '{}')::pg_catalog.text[]`
        // Arrays of arrays are no sets.
        const flat = (text: string) => `coalesce(pg_catalog.array_ndims(${members(text)}), 1) ${op.equals} 1`
        return [
          there,
          flat(before),
          flat(after),
          `exists (select from pg_catalog.unnest(${members(before)}) as m(one) where m.one is not null
              and not coalesce(${exact('m.one')} ${op.equals} any (${members(after)}), false))`,
        ]
      }
      case 'past':
      case 'future':
        return [
          there,
          `coalesce(${exact(this.#dayOf(after, field.baseType))} operator(pg_catalog.${test.test === 'past' ? '<' : '>'}) ${exact(this.#today())}, false)`,
        ]
    }
  }

  #today(): string {
    return `pg_catalog.to_char(pg_catalog.timezone(${quoteLiteral(this.#installed.guard.zone)}, ${this.#told.at}), 'YYYY-MM-DD')`
  }

  #dayOf(text: string, baseType: string): string {
    const day =
      baseType === 'timestamptz'
        ? `pg_catalog.to_char(pg_catalog.timezone(${quoteLiteral(this.#installed.guard.zone)}, ${text}::pg_catalog.timestamptz), 'YYYY-MM-DD')`
        : `pg_catalog.left(${text}, 10)`
    return `case when ${text} operator(pg_catalog.~) ${moment} then ${day} end`
  }

  #held({ fieldId, values, other }: NonNullable<Guard['held']>): string {
    const { parent } = this.#installed
    const is = isOne(parent ? ofParent(parent, this.#told) : this.#told.held(fieldId), values)
    return other ? `not ${is}` : is
  }

  #within({ days, from, to, outside }: GuardTimes, zone: string): string {
    const clock = `pg_catalog.timezone(${quoteLiteral(zone)}, ${this.#told.at})`
    const time = exact(`pg_catalog.to_char(${clock}, 'HH24:MI')`)
    const [begun, ended] = [
      `${time} operator(pg_catalog.>=) ${quoteLiteral(from)}`,
      `${time} operator(pg_catalog.<) ${quoteLiteral(to)}`,
    ]
    const hours = from === to ? 'true' : from < to ? `(${begun} and ${ended})` : `(${begun} or ${ended})`
    const day = `pg_catalog.date_part('isodow', ${clock})::pg_catalog.int4 ${op.equals} any (array[${days.join(', ')}]::pg_catalog.int4[])`
    return `${outside ? 'not ' : ''}(${day} and ${hours})`
  }

  #by(): string {
    const { said, logins: known, guard } = this.#installed
    const { actors, kinds, channels, logins, others } = guard.by!
    const claim = (name: string) =>
      `case when ${believed(this.#table)} then spoor_capture.said(pg_catalog.current_setting('spoor.context', true), '${name}') end`
    const login = 'session_user::pg_catalog.text'
    const kind = `case when ${claim('actor')} is null then 'unknown' else coalesce(${claim('kind')}, 'person') end`
    const parts = [
      ...(actors.length === 0
        ? []
        : [`(coalesce(${isIn(claim('actor'), said)}, false) or ${claim('actor')} is null and ${isIn(login, known)})`]),
      ...(kinds.length === 0 ? [] : [isIn(kind, kinds)]),
      ...(channels.length === 0 ? [] : [isIn(`coalesce(${claim('channel')}, 'direct SQL')`, channels)]),
      ...(logins.length === 0 ? [] : [isIn(login, logins)]),
    ]
    return `${others ? 'not ' : ''}(${parts.join(' and ')})`
  }
}

/** Types in which a key can be looked for as it is, so that an index is used. */
const sought = new Set(['int2', 'int4', 'int8', 'uuid', 'oid', 'date', 'text', 'varchar'])

/** What a field of the record holds whose line it is. */
function ofParent(parent: NonNullable<InstalledGuard['parent']>, told: Told): string {
  const texts = new ValueText({ shifted: false })
  const row = named('x')
  const same = parent.keyColumns.map((column, at) => {
    const wanted = told.parentPart(at)
    return sought.has(column.baseType) && column.plainEquality
      ? `${row(column)} ${op.equals} ${wanted}::pg_catalog.${column.baseType}`
      : `${exact(texts.text(column, row))} ${op.equals} ${exact(wanted)}`
  })
  return `(select ${texts.text(parent.column, row)} from ${qualified(parent)} x where ${same.join(' and ')})`
}

const numeric = (text: string) => `${quoteLiteral(text)}::pg_catalog.numeric`

/** NULL where it is no number that can be reckoned with. */
function numberOf(text: string): string {
  return `(case when pg_catalog.length(${text}) operator(pg_catalog.<=) ${longestDecimal} and ${text} operator(pg_catalog.~) ${decimal} then ${text}::pg_catalog.numeric end)`
}
