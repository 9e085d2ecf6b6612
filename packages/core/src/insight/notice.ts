import { wallClock } from '../time/zone.ts'
import {
  dayMs,
  type Around,
  type Figures,
  type Hit,
  type NoticedSave,
  type NoticingWorld,
  type Rule,
  type RuleName,
} from './model.ts'
import { rules } from './rules.ts'

/** What people chose for a rule: whether it is on, and its parameters. */
export interface RuleSetting {
  on: boolean
  parameters: Readonly<Record<string, number>>
}
export type NoticingSettings = Readonly<Partial<Record<RuleName, RuleSetting>>>

export interface Reason {
  rule: RuleName
  fieldId: number | null
  figures: Figures
}

/** What stands out, told once: all that belongs together, with every reason for it, the heaviest first. */
export interface Story {
  /** The same whenever the same saves are read with the same settings. */
  id: string
  reasons: readonly Reason[]
  /** Saves it is about, in the order they were made; of very many the first {@link mostSaves}. */
  saves: readonly string[]
  /** How many saves in all. */
  count: number
  fromMs: number
  toMs: number
  actors: readonly number[]
  types: readonly number[]
  /** How many records. */
  records: number
}

export const mostSaves = 10_000

interface OpenStory {
  id: string
  reasons: Reason[]
  saves: string[]
  count: number
  fromMs: number
  toMs: number
  actors: number[]
  types: number[]
  records: Record<string, 1>
  recordCount: number
  untilMs: number
}

/** All that noticing remembers, as plain data. */
export interface NoticingState {
  rules: Partial<Record<RuleName, unknown>>
  actors: Record<string, { firstMs: number; saves: number }>
  open: Record<string, OpenStory>
  /** Which open story a rule and key, and a save, belong to. */
  byKey: Record<string, string>
  bySave: Record<string, string>
  /** Of saves that may yet come to belong to a story, what a story needs of them; the last {@link memory}. */
  recent: Record<string, [atMs: number, actorId: number, typeId: number, key: string]>
  recentFrom: string[]
}

/** So many saves back a rule may name. */
const memory = 20_000
const hourMs = 3_600_000

export function newState(): NoticingState {
  return { rules: {}, actors: {}, open: {}, byKey: {}, bySave: {}, recent: {}, recentFrom: [] }
}

/**
 * Reads saves one after another and tells what stands out. Its state is plain data that can be kept and gone on
 * from; the same saves with the same settings give the same stories.
 */
export class Noticer {
  readonly #world: NoticingWorld
  readonly #state: NoticingState
  /** The rules that are on, each with its parameters. */
  readonly #active: readonly (readonly [Rule, Record<string, number>])[]
  readonly #changed = new Set<string>()
  readonly #told = new Map<string, Story>()
  #clock = { hourMs: -1, date: '', hour: 0, weekend: false }

  constructor(settings: NoticingSettings, world: NoticingWorld, state: NoticingState = newState()) {
    this.#active = rules
      .filter(({ name }) => settings[name]?.on !== false)
      .map((rule) => [rule, parametersOf(rule, settings[rule.name])] as const)
    this.#world = world
    this.#state = state
  }

  get state(): NoticingState {
    return this.#state
  }

  take(save: NoticedSave): void {
    const state = this.#state
    const around = this.#around(save)
    this.#remember(save)
    if (save.correction) return
    for (const [rule, parameters] of this.#active) {
      const own = (state.rules[rule.name] ??= rule.begin())
      for (const hit of rule.notice(save, own, parameters, around)) this.#tell(rule, hit, save)
    }
    const actor = (state.actors[save.actorId] ??= { firstMs: save.atMs, saves: 0 })
    actor.saves++
  }

  /** Stories that are new or have grown since this was last asked. */
  drain(): Story[] {
    for (const id of this.#changed) {
      const open = this.#state.open[id]
      if (open) this.#told.set(id, shown(open))
    }
    this.#changed.clear()
    const stories = [...this.#told.values()]
    this.#told.clear()
    return stories
  }

  #around(save: NoticedSave): Around {
    const at = Math.floor(save.atMs / hourMs)
    if (this.#clock.hourMs !== at) {
      const { date, time } = wallClock(save.atMs, this.#world.zone)
      const weekday = new Date(`${date}T00:00:00Z`).getUTCDay()
      this.#clock = { hourMs: at, date, hour: Number(time.slice(0, 2)), weekend: weekday === 0 || weekday === 6 }
      this.#close(save.atMs)
    }
    const { date: day, hour, weekend } = this.#clock
    return { world: this.#world, actor: this.#state.actors[save.actorId], hour, weekend, day }
  }

  #remember(save: NoticedSave): void {
    const { recent, recentFrom } = this.#state
    recent[save.id] = [save.atMs, save.actorId, save.typeId, save.key]
    recentFrom.push(save.id)
    if (recentFrom.length > memory * 2) for (const old of recentFrom.splice(0, memory)) delete recent[old]
  }

  #tell(rule: Rule, hit: Hit, save: NoticedSave): void {
    const { open, byKey, bySave } = this.#state
    const key = `${rule.name} ${hit.key}`
    const joined = hit.saves.map((id) => bySave[id]).find((id) => id !== undefined && open[id])
    const kept = byKey[key]
    const id =
      (kept !== undefined && open[kept] ? kept : joined) ?? `${rule.name} ${hit.key} ${hit.saves[0] ?? save.id}`
    if (!open[id] && hit.saves.length === 0) return
    const story = (open[id] ??= {
      id,
      reasons: [],
      saves: [],
      count: 0,
      fromMs: save.atMs,
      toMs: save.atMs,
      actors: [],
      types: [],
      records: {},
      recordCount: 0,
      untilMs: 0,
    })
    byKey[key] = id
    story.untilMs = Math.max(story.untilMs, save.atMs + rule.quietDays * dayMs)
    const before = story.reasons.findIndex((one) => one.rule === rule.name && one.fieldId === hit.fieldId)
    const reason = {
      rule: rule.name,
      fieldId: hit.fieldId,
      figures: { ...story.reasons[before]?.figures, ...hit.figures },
    }
    if (before >= 0) story.reasons[before] = reason
    else story.reasons.push(reason)
    for (const one of hit.saves) if (bySave[one] !== id) this.#add(story, one, save)
    this.#changed.add(id)
  }

  #add(story: OpenStory, saveId: string, now: NoticedSave): void {
    const [atMs, actorId, typeId, key] = this.#state.recent[saveId] ?? [now.atMs, now.actorId, now.typeId, now.key]
    this.#state.bySave[saveId] = story.id
    story.count++
    if (story.saves.length < mostSaves) story.saves.push(saveId)
    story.fromMs = Math.min(story.fromMs, atMs)
    story.toMs = Math.max(story.toMs, atMs)
    if (!story.actors.includes(actorId) && story.actors.length < 20) story.actors.push(actorId)
    if (!story.types.includes(typeId) && story.types.length < 20) story.types.push(typeId)
    const record = `${typeId} ${key}`
    if (!story.records[record]) {
      story.recordCount++
      if (story.recordCount < mostSaves) story.records[record] = 1
    }
  }

  /** Stories that have been quiet for long are over. */
  #close(nowMs: number): void {
    const { open, byKey, bySave } = this.#state
    const over = Object.values(open).filter((story) => story.untilMs < nowMs)
    if (over.length === 0) return
    const ids = new Set(over.map((story) => story.id))
    for (const story of over) {
      if (this.#changed.has(story.id)) this.#told.set(story.id, shown(story))
      delete open[story.id]
      for (const save of story.saves) delete bySave[save]
    }
    for (const [key, id] of Object.entries(byKey)) if (ids.has(id)) delete byKey[key]
  }
}

export function parametersOf(rule: Rule, setting: RuleSetting | undefined): Record<string, number> {
  return Object.fromEntries(
    Object.entries(rule.parameters).map(([name, { usual }]) => [name, setting?.parameters[name] ?? usual]),
  )
}

function shown(story: OpenStory): Story {
  const weight = (one: Reason) => rules.find((rule) => rule.name === one.rule)?.weight ?? 0
  return {
    id: story.id,
    reasons: [...story.reasons].sort((a, b) => weight(b) - weight(a)),
    saves: story.saves,
    count: story.count,
    fromMs: story.fromMs,
    toMs: story.toMs,
    actors: story.actors,
    types: story.types,
    records: story.recordCount,
  }
}
