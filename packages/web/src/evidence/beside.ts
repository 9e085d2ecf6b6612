import { PackBeside } from '@spoor/contract'
import * as v from 'valibot'
import type { LocationQuery } from 'vue-router'

/** Tables that stand in a pack beside its changes, as the link has them that leads to its making. */
export const besideQuery = (...tables: PackBeside[]) => ({ beside: tables.map((one) => JSON.stringify(one)) })

/** What is no such table is left out. */
export function besideIn(query: LocationQuery): PackBeside[] {
  return [query['beside'] ?? []].flat().flatMap((text) => {
    try {
      const read = v.safeParse(PackBeside, JSON.parse(text ?? ''))
      return read.success ? [read.output] : []
    } catch {
      return []
    }
  })
}
