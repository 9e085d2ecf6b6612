import { isDecimal } from '../../value/difference.ts'
import { dayMs, rule, type Hit } from '../model.ts'

interface Hand {
  /** Days in milliseconds and, for those just under, the save; the rest null. */
  recent: [atMs: number, saveId: string | null, limit: number][]
  told: boolean
}
interface State {
  hands: Record<string, Hand>
  /** Of each field: values entered by anybody, and those just under a round amount. */
  fields: Record<string, { values: number; under: number }>
}

const steps = [1, 1.5, 2, 2.5, 5, 10]

/** The round amount that a value is just under, within so many percent; null when it is under none. */
export function limitAbove(value: number, percent: number): number | null {
  if (!(value >= 1) || !Number.isFinite(value)) return null
  const power = 10 ** Math.floor(Math.log10(value))
  const limit = steps.map((step) => step * power).find((one) => one > value)!
  return value >= limit * (1 - percent / 100) ? limit : null
}

export const underLimit = rule<State>({
  name: 'under-limit',
  title: 'Just under a round amount, again and again',
  notices: 'One actor who enters values just under the same round amount over and over, as under a limit of approval.',
  limits:
    'Round amounts are 1, 1.5, 2, 2.5 and 5 with any noughts: Spoor does not know the limits that people were set. Entries and later changes are compared each with their own kind, and with how often anybody’s values of the field are just under one.',
  parameters: {
    values: { words: 'values just under', usual: 5, least: 3, most: 100 },
    days: { words: 'days in which they were entered', usual: 30, least: 1, most: 365 },
    percent: { words: 'percent under the amount', usual: 3, least: 0.1, most: 20 },
    share: { words: 'least percent of the actor’s values that must be just under', usual: 60, least: 1, most: 100 },
  },
  quietDays: 30,
  weight: 0.93,
  begin: () => ({ hands: {}, fields: {} }),
  notice(save, { hands, fields }, { values, days, percent, share }, { world }) {
    if (save.action === 'delete' || save.actorKind === 'import' || save.actorKind === 'job') return []
    const hits: Hit[] = []
    for (const { fieldId, after } of save.changes) {
      const facts = world.field(fieldId)
      if (facts?.kind !== 'number' || facts.derived || after === null || !isDecimal(after)) continue
      const limit = limitAbove(Number(after), percent!)
      const field = (fields[`${fieldId} ${save.action}`] ??= { values: 0, under: 0 })
      const hand = (hands[`${save.actorId} ${fieldId} ${save.action}`] ??= { recent: [], told: false })
      const recent = hand.recent.filter(([atMs]) => atMs > save.atMs - days! * dayMs).slice(-199)
      hand.recent = [...recent, [save.atMs, limit === null ? null : save.id, limit ?? 0]]
      const same = hand.recent.filter(([, saveId, one]) => saveId !== null && one === limit)
      const others = field.values < 20 ? null : (field.under / field.values) * 100
      const enough = limit !== null && same.length >= values! && (same.length / hand.recent.length) * 100 >= share!
      if (enough && (others === null || others * 3 < share!)) {
        hits.push({
          key: `${save.actorId} ${fieldId} ${limit}`,
          saves: hand.told ? [save.id] : same.map(([, saveId]) => saveId!),
          fieldId,
          figures: { limit, ofValues: hand.recent.length, ...(others === null ? {} : { othersPercent: others }) },
        })
        hand.told = true
      } else {
        if (same.length === 0) hand.told = false
        field.values++
        if (limit !== null) field.under++
      }
    }
    return hits
  },
})
