import {
  Noticer,
  storyHeadline,
  type ActorKind,
  type FieldFacts,
  type NoticedSave,
  type Story,
  type StoryNames,
  type ValueKind,
} from '@spoor/core'
import type { History } from '../src/history/generate.ts'
import { fieldRules, trackedColumns, type TrackedTable } from '../src/history/tracked.ts'
import { larkmereZone } from '../src/larkmere/calendar.ts'

/** Larkmere's whole history read by noticing in this process, without a database. */

const tables = Object.keys(trackedColumns) as TrackedTable[]
const columns = tables.flatMap((table) => trackedColumns[table].map((column) => `${table}.${column}`))
const sets = /\.(amenities|support_services|approved_trades)$/
const numbers =
  /\.(bedrooms|floor_area|weekly_rent|monthly_rent|service_charge|deposit|balance|amount|quantity|unit_price|rate|weekly_figure|approved_limit)$/
const effects = /\.(effective_on|start_on|inspected_on|valid_from|in_force_from)$/
const parents: Partial<Record<TrackedTable, [TrackedTable, string]>> = {
  'repairs.repair_line': ['repairs.repair_order', 'order_id'],
  'lettings.rent_account_entry': ['lettings.tenancy', 'tenancy_id'],
  'lettings.household_member': ['lettings.tenancy', 'tenancy_id'],
}
export const fieldId = (name: string) => columns.indexOf(name) + 1
export const typeId = (table: TrackedTable) => tables.indexOf(table) + 1

function kindOf(name: string): ValueKind {
  return sets.test(name) ? 'set' : numbers.test(name) ? 'number' : /_on$|date/.test(name) ? 'date' : 'text'
}

const facts = new Map(
  columns.map((name): [number, FieldFacts] => [
    fieldId(name),
    {
      kind: kindOf(name),
      derived: (fieldRules[name]?.derivedFrom?.length ?? 0) > 0,
      sensitive: fieldRules[name]?.sensitive ?? false,
      effect: effects.test(name),
      signOff: /approved_by$/.test(name),
      reference: /_id$/.test(name),
    },
  ]),
)

export interface Noticed {
  saves: NoticedSave[]
  stories: Story[]
  names: StoryNames
  workdays: number
}

export function noticeHistory(history: History): Noticed {
  const actors: { name: string; kind: ActorKind }[] = []
  const actorId = (name: string, kind: ActorKind) => {
    const known = actors.findIndex((actor) => actor.name === name)
    return known >= 0 ? known + 1 : actors.push({ name, kind })
  }
  const runs = new Map<string, number>()
  const inTransaction = new Map<number, number>()
  for (const { transaction } of history.recorder.trail)
    inTransaction.set(transaction, (inTransaction.get(transaction) ?? 0) + 1)
  const latest = new Map<string, string | null>()
  const saves = history.recorder.trail.map((row, at): NoticedSave => {
    const context = row.hand.context
    const kind = (context?.kind ?? 'unknown') as ActorKind
    const actor = actorId(context?.actor ?? row.hand.login, kind)
    const run = context?.run ? `${actor} ${context.run}` : `transaction ${row.transaction}`
    if (context?.run || inTransaction.get(row.transaction)! > 1) runs.set(run, runs.get(run) ?? runs.size + 1)
    const parent = parents[row.table]
    return {
      id: String(at + 1),
      atMs: row.atMs,
      typeId: typeId(row.table),
      key: row.key,
      parent: parent ? { typeId: typeId(parent[0]), key: JSON.stringify([row.row[parent[1]]]) } : null,
      action: row.action,
      actorId: actor,
      actorKind: kind,
      claimed: false,
      correction: false,
      runId: runs.get(run) ?? null,
      transaction: String(row.transaction),
      changes: Object.entries(row.delta).map(([column, [before, after]]) => {
        const name = `${row.table}.${column}`
        const place = `${row.key} ${name}`
        const unseen = row.action === 'change' && latest.has(place) && latest.get(place) !== before
        latest.set(place, after)
        return { fieldId: fieldId(name), before, after, unseen }
      }),
    }
  })
  const noticer = new Noticer({}, { field: (id) => facts.get(id), zone: larkmereZone })
  const stories = new Map<string, Story>()
  for (const save of saves) {
    noticer.take(save)
    for (const story of noticer.drain()) stories.set(story.id, story)
  }
  const names: StoryNames = {
    actor: (id) => actors[id - 1]?.name,
    actorKind: (id) => actors[id - 1]?.kind,
    type: (id) => tables[id - 1]?.replace(/^.*\./, '').replaceAll('_', ' '),
    field: (id) => ({ name: (columns[id - 1] ?? '').replace(/^.*\./, '').replaceAll('_', ' '), typeId: 0 }),
    record: (ref) => ref.key,
    run: () => undefined,
    only: null,
  }
  const workdays = new Set(
    saves
      .map(({ atMs }) => new Date(atMs))
      .filter((day) => day.getUTCDay() % 6 !== 0)
      .map((day) => day.toISOString().slice(0, 10)),
  ).size
  return { saves, stories: [...stories.values()], names, workdays }
}

export function headlineOf(story: Story, { names, saves }: Noticed): string {
  const first = saves[Number(story.saves[0]) - 1]
  return storyHeadline(story, { ...names, only: first && story.records === 1 ? first : null })
}
