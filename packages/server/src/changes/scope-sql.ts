import { assertNever, instantsOf, partsOf, type Scope, type ScopePart } from '@spoor/core'
import type { Knex } from 'knex'

/** `change` rows have a field; `save` rows stand for all their changes and ask the change table about fields. */
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
  for (const part of partsOf(scope)) wherePart(query, part, level, alias, nowMs)
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
              column('parent_key'), column('parent_type_id'), record.typeId, column('parent_key'), record.key,
            ]) // prettier-ignore
        }),
      )
      return
    case 'when': {
      const { fromMs, toMs } = instantsOf(part.span, nowMs)
      add((q) => {
        if (fromMs !== null) q.where(column('captured_at'), '>=', new Date(fromMs).toISOString())
        if (toMs !== null) q.where(column('captured_at'), '<', new Date(toMs).toISOString())
      })
      return
    }
    case 'what':
      if (level === 'change' || part.fields.length === 0) {
        add((q) => {
          q.whereIn(column('type_id'), [...part.types])
          if (part.fields.length > 0) q.orWhereIn(column('field_id'), [...part.fields])
        })
        return
      }
      query.whereExists((exists) => {
        exists
          .select(1)
          .from('ledger.change as one')
          .whereRaw('one.save_id = ?? and one.captured_at = ??', [column('id'), column('captured_at')])
        wherePart(exists, part, 'change', 'one', nowMs)
      })
      return
    default:
      assertNever(part)
  }
}

/** Whether a scope can only be decided change by change. */
export function asksFields(scope: Scope): boolean {
  return (scope.what?.fields.length ?? 0) > 0
}
