import { quoteIdentifier as id, quoteLiteral } from '../database/identifier.ts'
import { contextHere, named, numbered, numberedList, Statements } from './statements.ts'
import {
  allColumns,
  isByRow,
  qualified,
  rowTriggerName,
  triggerPrefix,
  type CapturedTable,
  type CaptureEvent,
  type RowEvent,
} from './table.ts'
import { op, together, type RowOf } from './value-text.ts'
import { askGuards, guardsSql, oldRow, oldRowsOfStatement, type OneRow } from './guards.ts'
import {
  columnsHere,
  contextOnce,
  fitted,
  functionSql,
  leaveStrangers,
  oid,
  originalsOf,
  shapeChanged,
  variables,
} from './function-text.ts'
import { beginTrigger, marks, statementEvents, statementTrigger, uninstallTriggers } from './triggers.ts'

/**
 * The triggers of one record type as SQL, the same for the same input. They run once a statement over its transition
 * tables; a row whose tracked values are all as before makes no entry. When a tracked column was renamed, dropped
 * or retyped since, they write themselves anew for the statement, so that the business never fails for it.
 *
 * A partition that is made later is captured from its first row on by a row trigger that PostgreSQL gives to it; where
 * the statement triggers stand it is switched off.
 */
export function captureSql(table: CapturedTable, planVersion: number): string {
  const functions = statementEvents(table).map((event) => statementFunction(table, planVersion, event))
  const byRow = isByRow(table) || table.partitioned ? [rowFunction(table, planVersion)] : []
  const triggers = isByRow(table)
    ? [table, ...table.descendants]
        .map((on) => statementTrigger(table.typeId, 'truncate', on))
        .concat(boundaries(table))
    : [table, ...table.descendants].flatMap((on) => [
        ...(marks(table) ? [beginTrigger(table.typeId, on)] : []),
        ...statementEvents(table).map((event) => statementTrigger(table.typeId, event, on)),
      ])
  // What an earlier plan left that this one does without is taken off first.
  return [guardsSql(table), uninstallTriggers(table), ...functions, ...byRow, ...triggers, rowTriggers(table)].join('')
}

/** Where rows are captured one by one, statements on the table and on those it inherits from are put in order at their end. */
function boundaries(table: CapturedTable): string[] {
  const statements = new Statements(table, 0, { shifted: false, salt: '' })
  const name = `${triggerPrefix(table.typeId)}end`
  return [table, ...table.descendants, ...table.ancestors].map(
    (on) => `${beginTrigger(table.typeId, on)}
create trigger ${name} after insert or update or delete on ${qualified(on)}
  for each statement execute function spoor_capture.end_statement(${table.typeId}, ${quoteLiteral(presence(table, statements))});
alter table ${qualified(on)} enable always trigger ${name};
`,
  )
}

function presence(table: CapturedTable, statements: Statements): string {
  return `select exists (select from ${qualified(table)} x where ${statements.hasKey()})`
}

function rowTriggers(table: CapturedTable): string {
  if (!isByRow(table) && !table.partitioned) return ''
  const name = id(rowTriggerName(table.typeId))
  const make = `
create trigger ${name} after insert or update or delete on ${qualified(table)}
  for each row execute function spoor_capture.${triggerPrefix(table.typeId)}row();
alter table only ${qualified(table)} enable always trigger ${name};
`
  if (isByRow(table)) {
    const more = table.descendants.map(
      (on) => `
create trigger ${name} after insert or update or delete on ${qualified(on)}
  for each row execute function spoor_capture.${triggerPrefix(table.typeId)}row();
alter table only ${qualified(on)} enable always trigger ${name};
`,
    )
    return [make, ...more].join('')
  }
  // Partitions of partitions take the trigger over as it stands on their own parent.
  const below = table.descendants.map(
    (on) => `alter table only ${qualified(on)} ${on.leaf ? 'disable' : 'enable always'} trigger ${name};\n`,
  )
  return `${make}${below.join('')}`
}

function statementFunction(table: CapturedTable, planVersion: number, event: CaptureEvent): string {
  const name = `${triggerPrefix(table.typeId)}${event}`
  const fixed = new Statements(table, planVersion, { shifted: false, salt: variables.salt })
  const shifting = new Statements(table, planVersion, { shifted: true, salt: '$2' })
  const learn = `
    ${variables.list} := spoor_capture.columns_now(${oid(table)}, TG_RELID, ${originalsOf(table)});`
  const count = `
    get diagnostics ${variables.written} = row_count;`
  const using = `using ${variables.at}, ${variables.salt}`
  if (event === 'truncate') {
    const known = new Statements(table, planVersion, { shifted: false, salt: '$2' })
    const removed = (statements: Statements) => fitted(statements.ofMany('delete', '$1', { o: columnsHere, n: '' }))
    // ONLY: when a parent is truncated, its children's own triggers speak for their rows.
    const work = `${leaveStrangers(table)}
  perform spoor_capture.demand_sight(TG_RELID);${learn}
  ${variables.list} := pg_catalog.concat(${variables.list}, ' from only ', TG_RELID::pg_catalog.regclass::pg_catalog.text, ' x');
  if ${shapeChanged(table)} then
    execute ${removed(shifting)} ${using};
  else
    execute ${removed(known)} ${using};
  end if;${count}${askGuards(table, 'truncate', null, null)}`
    return functionSql(table, { name, before: '', work, after: demandReason(table), records: [] })
  }
  const from = { o: `${columnsHere} from old_rows x`, n: `${columnsHere} from new_rows x` }
  const dynamic = `${learn}
    execute ${fitted(shifting.ofMany(event, '$1', from))} ${using};${count}`
  const begin = marks(table)
    ? `
  ${variables.begun} := spoor_capture.begun(TG_RELID, TG_OP);
  ${variables.first} := pg_catalog.nextval('spoor_capture.outbox_seq_seq');`
    : ''
  const settle = marks(table) ? settleOrder(table, event, fixed) : ''
  const guards = askGuards(
    table,
    event,
    event === 'update' ? oldRowsOfStatement(numberedList(allColumns(table))) : null,
    rowsAtHand(event, numbered('spoor.o'), numbered('spoor.n')),
  )
  const work = `${leaveStrangers(table)}
  if ${shapeChanged(table)} then${dynamic}
  else${ofStatement(table, planVersion, event, fixed)}
  end if;${guards}${settle}`
  const records = { insert: ['n'], update: ['o', 'n'], delete: ['o'] }[event]
  return functionSql(table, { name, before: begin, work, after: demandReason(table), records })
}

/** Whether two rows of a statement are the same record exactly when their keys are equal. */
function keysAreIdentities({ keyColumns, keyDeferrable }: CapturedTable): boolean {
  return !keyDeferrable && keyColumns.every((column) => column.plainEquality)
}

/**
 * One row, as most statements have it, is told of without planning a join; more are told of at once. LIMIT, since a
 * session can make it an error to select into a variable from more rows than one (`plpgsql.extra_errors`).
 */
function ofStatement(table: CapturedTable, planVersion: number, event: RowEvent, statements: Statements): string {
  const list = numberedList(allColumns(table))
  const from = { o: `${list} from old_rows x`, n: `${list} from new_rows x` }
  const [o, n] = [numbered('spoor.o'), numbered('spoor.n')]
  const count = `
      get diagnostics ${variables.written} = row_count;`
  const bulk = new Statements(table, planVersion, {
    shifted: false,
    salt: variables.salt,
    context: contextOnce.join(', '),
  })
  const byPlace = `
      ${bulk.ofMany(event, variables.at, from)};${count}`
  const byKey = `
      ${bulk.ofManyByKey(variables.at, from)};${count}
      if pg_catalog.current_setting('spoor.key_changed', true) ${op.equals} 'yes' then
        -- What was written is taken back, and every row is paired by its place, which both transition tables share.
        perform pg_catalog.set_config('spoor.key_changed', '', true);
        delete from spoor_capture.outbox where seq ${op.equals} any (array(
          select seq from spoor_capture.outbox where transaction_id ${op.equals} pg_catalog.pg_current_xact_id()
           order by seq desc limit ${variables.written}));${byPlace}
      end if;`
  // Compiling so many small expressions costs more than a bulk statement itself: no jit while they are planned.
  const set = `
      ${variables.jit} := pg_catalog.current_setting('jit');
      select ${contextHere} into ${contextOnce.join(', ')};
      perform pg_catalog.set_config('jit', 'off', true);${event === 'update' && keysAreIdentities(table) ? byKey : byPlace}
      perform pg_catalog.set_config('jit', ${variables.jit}, true);`
  const side = event === 'delete' ? 'o' : 'n'
  const rows = event === 'delete' ? 'old_rows' : 'new_rows'
  const one = oneRow(table, event, statements, o, n)
  const read = `
    select ${list}, exists (select from ${rows} offset 1) as more into spoor.${side} from ${rows} x limit 1;`
  if (event !== 'update')
    return `${read}
    if spoor.${side}.more then${set}
    elsif found then${one}
    end if;`
  const unequal = table.partitioned
    ? `
    elsif (select pg_catalog.count(*) from old_rows) ${op.differs} (select pg_catalog.count(*) from new_rows) then${statements
      .ofUnequal(variables.at, from)
      .map(
        (statement) => `
      ${statement};`,
      )
      .join('')}
      ${variables.written} := 1;`
    : ''
  return `
    select ${list}, exists (select from old_rows offset 1) as more into spoor.o from old_rows x limit 1;
    if not found then
      null;${unequal}
    elsif spoor.o.more then${set}
    else
      select ${list} into spoor.n from new_rows x limit 1;${one}
    end if;`
}

/** Of an event, the row as it was and as it is, where there is one. */
function rowsAtHand(event: RowEvent, o: RowOf, n: RowOf): OneRow {
  return { o: event === 'insert' ? null : o, n: event === 'delete' ? null : n }
}

/** Tells of one row that is at hand, field by field. */
function oneRow(table: CapturedTable, event: RowEvent, statements: Statements, o: RowOf, n: RowOf): string {
  const action = ({ insert: 'create', update: 'change', delete: 'delete' } as const)[event]
  const row = event === 'delete' ? o : n
  const fields = statements.pairs(action, o, n).map(
    ({ when, pair }) => `
      if ${when} then ${variables.delta} := ${together(variables.delta, `','`, pair)}; end if;`,
  )
  const moved =
    event === 'update'
      ? `
      if ${statements.keyDiffers(o, n)} then ${variables.keyBefore} := ${statements.key(o)}; end if;`
      : ''
  const delta = together(`'{'`, `pg_catalog.substr(${variables.delta}, 2)`, `'}'`)
  const values = statements.values(action, row, {
    at: variables.at,
    key: statements.key(row),
    keyBefore: variables.keyBefore,
    delta,
  })
  const insert = `
      ${statements.insert(`values (${values})`)};
      ${variables.written} := 1;`
  if (event !== 'update') return `${fields.join('')}${insert}`
  return `${fields.join('')}${moved}
      if ${variables.delta} ${op.differs} '' or ${variables.keyBefore} is not null then${insert}
      end if;`
}

/** Puts what was written while the statement went on in the order in which it came about. */
function settleOrder(table: CapturedTable, event: RowEvent, statements: Statements): string {
  return `
  if ${variables.begun} is not null and ${variables.written} operator(pg_catalog.>) 0 then
    perform spoor_capture.put_in_order(${table.typeId}, '${event}', ${variables.begun}, ${variables.first}, ${quoteLiteral(presence(table, statements))});
  end if;`
}

function rowFunction(table: CapturedTable, planVersion: number): string {
  const name = `${triggerPrefix(table.typeId)}row`
  const fixed = new Statements(table, planVersion, { shifted: false, salt: variables.salt })
  const shifting = new Statements(table, planVersion, { shifted: true, salt: '$2' })
  // A statement that came through the root is told of there, this partition's rows with the others.
  const told = table.partitioned
    ? `
  if not spoor_capture.belongs(TG_RELID, ${oid(table)}) or spoor_capture.told_above(TG_RELID) then
    return null;
  end if;`
    : ''
  const branch = (event: RowEvent) => {
    const from = { o: `${columnsHere} from (select ($3).*) x`, n: `${columnsHere} from (select ($4).*) x` }
    const row = { insert: 'null::pg_catalog.text, new', update: 'old, new', delete: 'old, null::pg_catalog.text' }[
      event
    ]
    return `
    if ${shapeChanged(table)} then
      ${variables.list} := spoor_capture.columns_now(${oid(table)}, TG_RELID, ${originalsOf(table)});
      execute ${fitted(shifting.ofMany(event, '$1', from))} using ${variables.at}, ${variables.salt}, ${row};
      get diagnostics ${variables.written} = row_count;
    else${oneRow(table, event, fixed, named('old'), named('new'))}
    end if;${askGuards(table, event, event === 'update' ? oldRow : null, rowsAtHand(event, named('old'), named('new')))}`
  }
  const work = `${told}
  if TG_OP ${op.equals} 'INSERT' then${branch('insert')}
  elsif TG_OP ${op.equals} 'UPDATE' then${branch('update')}
  else${branch('delete')}
  end if;`
  const sql = functionSql(table, { name, before: '', work, after: demandReason(table), records: [] })
  // Whoever makes a partition is asked for this right when PostgreSQL gives it the trigger; elsewhere it does nothing.
  return table.partitioned ? `${sql}grant execute on function spoor_capture.${name}() to public;\n` : sql
}

/** Refuses a statement that changed what needs a reason when none was given. */
function demandReason({ typeId, reason, fields }: CapturedTable): string {
  const needing = fields.filter((field) => field.needsReason)
  if (reason !== 'required' && needing.length === 0) return ''
  const named = needing.map(({ fieldId }) => `delta::pg_catalog.json operator(pg_catalog.->) '${fieldId}' is not null`)
  const changed =
    reason === 'required'
      ? ''
      : ` and exists (
      select from (select delta from spoor_capture.outbox where transaction_id ${op.equals} pg_catalog.pg_current_xact_id()
                     and type_id ${op.equals} ${typeId} and depth ${op.equals} pg_catalog.pg_trigger_depth() order by seq desc limit ${variables.written}) newest
       where ${named.join(' or ')})`
  return `
  if ${variables.written} operator(pg_catalog.>) 0 and spoor_capture.reason_of(pg_catalog.current_setting('spoor.context', true)) is null${changed} then
    raise exception 'This change needs a reason, and none was given. Nothing was saved.'
      using errcode = 'SPR01', hint = 'Give a reason and save again.';
  end if;`
}
