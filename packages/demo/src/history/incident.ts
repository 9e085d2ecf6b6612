import { namedOfficers, type Officer } from '../larkmere/staff.ts'
import { type Row } from './recorder.ts'
import type { TrackedTable } from './tracked.ts'
import type { Stage } from './days.ts'

export const incidentNames = [
  'uplift',
  'bankAccount',
  'certificates',
  'unitPrices',
  'emptiedServices',
  'deletedTenant',
  'mistypedBand',
  'gap',
  'terminal',
  'delegate',
  'ordinaryDays',
] as const
export type IncidentName = (typeof incidentNames)[number]

/** What is known to be true of one planted incident; nothing in the data itself marks it. */
export interface Incident {
  name: IncidentName
  words: string
  /** Names of the actors, as the ledger should have them. */
  who: string[]
  table: TrackedTable | null
  fields: string[]
  /** Keys of the records, canonical JSON text. */
  records: string[]
  /** First and last moment, ISO 8601; `until` is exclusive for spells of days. */
  from: string
  until: string
  /** Further numbers by name. */
  counts: Record<string, number>
}

export const iso = (ms: number) => new Date(ms).toISOString()
export const keyOf = (id: string | null | undefined) => JSON.stringify([id])

export function officerOf({ officers }: Stage, name: keyof typeof namedOfficers): Officer {
  return officers.find((officer) => officer.name === namedOfficers[name].name)!
}

export function activeTenancies({ recorder }: Stage): Row[] {
  return [...recorder.table('lettings.tenancy').values()].filter((row) => row['status'] === 'active')
}
