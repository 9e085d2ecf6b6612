import type { RouteLocationRaw } from 'vue-router'

/** The address of a record's story. */
export function recordLink({ typeId, key }: { typeId: number; key: string }): RouteLocationRaw {
  return { name: 'record', params: { typeId: String(typeId) }, query: { key } }
}
