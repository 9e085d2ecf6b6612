import { scopeEntries, type Scope } from '@spoor/core'
import type { LocationQueryRaw } from 'vue-router'

/** A scope as a link's query. */
export function scopeQuery(scope: Scope): LocationQueryRaw {
  const query: Record<string, string | string[]> = {}
  for (const [name, value] of scopeEntries(scope)) {
    const before = query[name]
    query[name] = before === undefined ? value : [...(Array.isArray(before) ? before : [before]), value]
  }
  return query
}
