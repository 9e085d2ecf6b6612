import { isDecimal } from '../../value/difference.ts'
import { dayMs, rule, type Hit } from '../model.ts'

interface Run {
  saves: string[]
  records: string[]
  count: number
  /** Relative moves of numbers, of the first some hundred. */
  shares: number[]
  untilMs: number
  told: boolean
}
interface State {
  /** Of each field: changes by day since it was first met, of the last some days. */
  fields: Record<string, { firstMs: number; days: Record<string, number> }>
  runs: Record<string, Run>
  /** Records of a burst, so that what is changed again by hand can be counted; dropped after two weeks. */
  after: Record<string, { key: string; fieldId: number; records: Record<string, 1>; byHand: number; untilMs: number }>
  sweptDay: string
}

const memoryDays = 60
const keptShares = 400
const keptRecords = 20_000

export const burst = rule<State>({
  name: 'burst',
  title: 'Far more at once than usual',
  notices: 'One run that changes a field of many records, far more than change on a usual day.',
  limits: `Compared with the field’s changes a day over up to ${memoryDays} days before; a field known for fewer than 30 days is not compared. Records created or deleted are not counted.`,
  parameters: {
    saves: { words: 'records in one run', usual: 40, least: 5, most: 100_000 },
    times: { words: 'times the field’s usual day', usual: 15, least: 2, most: 1000 },
  },
  quietDays: 14,
  weight: 0.85,
  begin: () => ({ fields: {}, runs: {}, after: {}, sweptDay: '' }),
  notice(save, state, { saves, times }, { world, day }) {
    if (state.sweptDay !== day) sweep(state, save.atMs, day)
    if (save.action !== 'change') return []
    const hits: Hit[] = []
    for (const { fieldId, before, after } of save.changes) {
      const facts = world.field(fieldId)
      if (!facts || facts.derived) continue
      const field = (state.fields[fieldId] ??= { firstMs: save.atMs, days: {} })
      const place = `run ${save.runId ?? save.transaction} ${fieldId}`
      const run = (state.runs[place] ??= { saves: [], records: [], count: 0, shares: [], untilMs: 0, told: false })
      run.untilMs = save.atMs + dayMs
      run.count++
      if (
        run.shares.length < keptShares &&
        facts.kind === 'number' &&
        before &&
        after &&
        isDecimal(before) &&
        isDecimal(after) &&
        Number(before) !== 0
      )
        run.shares.push(Number(after) / Number(before) - 1)
      run.records.push(`${save.typeId} ${save.key}`)
      if (!run.told) run.saves.push(save.id)
      const usual = usualDay(field, save.atMs)
      if (run.told || (usual !== null && run.count >= saves! && run.count >= times! * usual)) {
        hits.push({
          key: place,
          saves: run.told ? [save.id] : run.saves,
          fieldId,
          figures: { run: run.count, ...(usual === null ? {} : { usualDay: usual }), ...moved(run.shares) },
        })
        const later = (state.after[place] ??= { key: place, fieldId, records: {}, byHand: 0, untilMs: 0 })
        later.untilMs = save.atMs + this.quietDays * dayMs
        if (run.count <= keptRecords) for (const record of run.records) later.records[record] = 1
        run.records = []
        run.told = true
        run.saves = []
      } else field.days[day] = (field.days[day] ?? 0) + 1
      if (save.actorKind === 'person') hits.push(...byHandAgain(state, save, fieldId))
    }
    return hits
  },
})

/** Records of an earlier burst whose field a person now changes again: they say that something was wrong with it. */
function byHandAgain(state: State, save: { id: string; typeId: number; key: string }, fieldId: number): Hit[] {
  return Object.values(state.after).flatMap((later): Hit[] => {
    const record = `${save.typeId} ${save.key}`
    if (later.fieldId !== fieldId || !later.records[record]) return []
    delete later.records[record]
    later.byHand++
    return [{ key: later.key, saves: [save.id], fieldId, figures: { byHand: later.byHand } }]
  })
}

/** Mean changes a day; null when it has not been known long enough. */
function usualDay({ firstMs, days }: State['fields'][string], nowMs: number): number | null {
  const known = (nowMs - firstMs) / dayMs
  if (known < 30) return null
  return Object.values(days).reduce((sum, n) => sum + n, 0) / Math.min(known, memoryDays)
}

/** The middle of the moves in percent, where they all go one way. */
function moved(shares: readonly number[]): { percent?: number } {
  if (shares.length === 0 || !(shares.every((one) => one > 0) || shares.every((one) => one < 0))) return {}
  const sorted = [...shares].sort((a, b) => a - b)
  return { percent: sorted[Math.floor(sorted.length / 2)]! * 100 }
}

function sweep(state: State, nowMs: number, day: string): void {
  const oldest = new Date(nowMs - memoryDays * dayMs).toISOString().slice(0, 10)
  for (const { days } of Object.values(state.fields))
    for (const one of Object.keys(days)) if (one < oldest) delete days[one]
  for (const [place, run] of Object.entries(state.runs)) if (run.untilMs < nowMs) delete state.runs[place]
  for (const [place, later] of Object.entries(state.after)) if (later.untilMs < nowMs) delete state.after[place]
  state.sweptDay = day
}
