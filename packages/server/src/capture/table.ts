import type { FailureRule, Keep, ReasonRule } from '@spoor/core'
import type { InstalledGuard } from './guards.ts'
import { quoteIdentifier as id } from '../database/identifier.ts'

export interface CapturedColumn {
  /** `pg_attribute.attnum`, by which a column is known through a rename. */
  attributeNumber: number
  name: string
  /** `pg_attribute.atttypid`. */
  typeId: number
  /** Catalogue name with domains resolved; with its schema where it could be taken for one of PostgreSQL's own. */
  baseType: string
  plainEquality: boolean
}

/** A column that is part of a record's label. */
export interface LabelColumn extends CapturedColumn {
  /** The type whose record it names by its key, where what that one is called goes into the label. */
  refersTo?: number | null
}

export interface CapturedField extends CapturedColumn {
  fieldId: number
  keep: Keep
  /** Whether a save that changes it must give a reason, the type's own rule apart. */
  needsReason: boolean
}

export interface TableName {
  schema: string
  table: string
}

/** A partition or inheriting table, in which rows can be written directly. */
export interface Descendant extends TableName {
  /** Whether it holds rows itself: a partition that is partitioned again does not. */
  leaf: boolean
}

/** Where the triggers of a record type stand. */
export interface TriggerPlaces extends TableName {
  typeId: number
  descendants: readonly Descendant[]
  /** Tables it inherits from, at any height: statements on them write its rows too. */
  ancestors: readonly TableName[]
  partitioned: boolean
}

/** Everything the triggers of one record type depend on. */
export interface CapturedTable extends TriggerPlaces {
  relationId: number
  keyColumns: readonly CapturedColumn[]
  /** Whether two records can have the same key for a while. */
  keyDeferrable: boolean
  labelColumns: readonly LabelColumn[]
  /** Those that hold the parent's key, of a line; empty otherwise. */
  parentColumns: readonly CapturedColumn[]
  fields: readonly CapturedField[]
  reason: ReasonRule
  /** What becomes of a save when capturing itself fails. */
  onFailure: FailureRule
  /** Whether something of the business's may write while one of its statements goes on: a trigger, a cascade. */
  nests: boolean
  /** What is refused. */
  guards: readonly InstalledGuard[]
  /** Logins whose word is believed about who acts. */
  declaring: readonly string[]
}

export const captureEvents = ['insert', 'update', 'delete', 'truncate'] as const
export type CaptureEvent = (typeof captureEvents)[number]
/** Events that have transition tables. */
export type RowEvent = Exclude<CaptureEvent, 'truncate'>

/** Whether its rows are captured one by one: a statement on a table it inherits from has no statement trigger here. */
export function isByRow({ ancestors }: Pick<TriggerPlaces, 'ancestors'>): boolean {
  return ancestors.length > 0
}

/** The names of all triggers and functions of one record type begin with this. */
export function triggerPrefix(typeId: number): string {
  return `spoor_t${typeId}_`
}

/** Its name sorts before any other's, so that of two row triggers it speaks first. */
export function rowTriggerName(typeId: number): string {
  return `!${triggerPrefix(typeId)}row`
}

export function qualified({ schema, table }: TableName): string {
  return `${id(schema)}.${id(table)}`
}

/** Every column that the triggers name, once, by its number. */
export function allColumns({ keyColumns, labelColumns, parentColumns, fields }: CapturedTable): CapturedColumn[] {
  const byNumber = new Map(
    [...keyColumns, ...labelColumns, ...parentColumns, ...fields].map((column) => [column.attributeNumber, column]),
  )
  return [...byNumber.values()].sort((a, b) => a.attributeNumber - b.attributeNumber)
}

/** Whether what other records are called goes into the labels of its records. */
export function isComposed({ labelColumns }: Pick<CapturedTable, 'labelColumns'>): boolean {
  return labelColumns.some((column) => (column.refersTo ?? null) !== null)
}
