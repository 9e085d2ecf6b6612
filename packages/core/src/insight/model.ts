import type { RecordRef, ActorKind } from '../scope/model.ts'
import type { CapturedValue, ValueKind } from '../value/type.ts'

/** One change of a save, as noticing reads it. */
export interface NoticedChange {
  fieldId: number
  before: CapturedValue
  after: CapturedValue
  /** The value before is not the one that the trail has last: it changed where nobody saw it. */
  unseen: boolean
}

/** One save, as noticing reads it. They come in the order in which they reached the ledger. */
export interface NoticedSave {
  id: string
  /** When it was made, epoch milliseconds. */
  atMs: number
  typeId: number
  key: string
  parent: RecordRef | null
  action: 'create' | 'change' | 'delete'
  actorId: number
  actorKind: ActorKind
  claimed: boolean
  /** Made by a correction from Spoor, which people rehearsed: nothing of it stands out. */
  correction: boolean
  /** Null for saves from before runs were kept. */
  runId: number | null
  transaction: string
  changes: readonly NoticedChange[]
}

/** What is known of a field beyond its values. */
export interface FieldFacts {
  kind: ValueKind
  /** Whether it follows from others, so that its changes are nobody's act. */
  derived: boolean
  sensitive: boolean
  /** Whether its day says when the record takes effect. */
  effect: boolean
  /** Whether it says that somebody approved or closed the record. */
  signOff: boolean
  /** Whether it names another record. */
  reference: boolean
}

export interface NoticingWorld {
  field(id: number): FieldFacts | undefined
  /** The zone in which hours and days are those of the people's clock. */
  zone: string
}

export const ruleNames = [
  'unknown-actor',
  'there-and-back',
  'factor',
  'far-outside',
  'lost-members',
  'burst',
  'under-limit',
  'after-sign-off',
  'back-dated',
  'took-along',
  'first-touch',
  'unusual-hours',
  'gap',
] as const
export type RuleName = (typeof ruleNames)[number]

export type Figures = Readonly<Record<string, number>>

/** A rule's word that something stands out. */
export interface Hit {
  /** Hits of one rule and key are one story while no more than the rule's quiet time lies between them. */
  key: string
  /** Saves that it is about; a later hit of the same key brings only the new ones. */
  saves: readonly string[]
  fieldId: number | null
  /** What was reckoned and what it was compared with; later ones take the place of earlier ones. */
  figures: Figures
}

export interface Parameter {
  words: string
  usual: number
  least: number
  most: number
}

/**
 * One reason why something stands out: a pure function over a save, what it remembers, and its parameters. What it
 * remembers is plain data, so that noticing can stop and go on.
 */
export interface Rule<State = unknown> {
  name: RuleName
  title: string
  /** What it notices, as a person reads it. */
  notices: string
  /** What it compares with, and when it stays silent. */
  limits: string
  parameters: Readonly<Record<string, Parameter>>
  /** How long a story may be quiet and still go on, in days. */
  quietDays: number
  /** Of several reasons for one story, the heaviest gives it its name; from 0 to 1. */
  weight: number
  begin(): State
  notice(save: NoticedSave, state: State, parameters: Readonly<Record<string, number>>, around: Around): Hit[]
}

/** What every rule may ask about a save's surroundings, from before the save. */
export interface Around {
  world: NoticingWorld
  actor: { firstMs: number; saves: number } | undefined
  /** Hour of the day from 0 to 23, and whether it is Saturday or Sunday, by the people's clock. */
  hour: number
  weekend: boolean
  /** `YYYY-MM-DD` by the people's clock. */
  day: string
}

export const dayMs = 86_400_000

/** Kept so that a rule's types stay its own while all rules stand in one list. */
export function rule<State>(definition: Rule<State>): Rule {
  return definition as Rule
}
