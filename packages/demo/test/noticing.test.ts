import type { RuleName, Story } from '@spoor/core'
import { describe, expect, it } from 'vitest'
import { generateHistory } from '../src/history/generate.ts'
import type { IncidentName } from '../src/history/incident.ts'
import { headlineOf, noticeHistory, type Noticed } from './noticed.ts'

/** Under which reason each planted incident has to be told, and in which words. */
const wanted: Partial<Record<IncidentName, [RuleName, RegExp]>> = {
  uplift: ['burst', /^Weekly rent of \d+ tenancy rose by about 10(\.\d)? % in one (job )?run$/],
  bankAccount: ['there-and-back', /^Bank account of .* was changed, and changed back 63 hours later$/],
  certificates: ['back-dated', /^Nine certificate take effect (eleven months|33\d days) before they were entered$/],
  unitPrices: ['under-limit', /^14 values of unit price just under 150, all by Tariq Lindqvist$/],
  emptiedServices: ['lost-members', /^68 tenancy lost all their support services in one import$/],
  deletedTenant: ['took-along', /was deleted, and \d+ more records with it$/],
  mistypedBand: ['factor', /^Weekly figure of .* became ten times what it was, and was changed back 2 hours later$/],
  gap: ['gap', /is not what it was before a gap in tracking$/],
  terminal: ['unknown-actor', /^5 saves of tenancy by maint_ro, which nobody is known by$/],
  delegate: ['unknown-actor', /, a support delegate, made 24 saves of tenancy$/],
}

function overlaps(story: Story, from: string, until: string): boolean {
  return story.fromMs < Date.parse(until) && story.toMs >= Date.parse(from)
}

/** Stories about an incident's own records in its own spell. */
function about(noticed: Noticed, incident: { records: string[]; table: string | null; from: string; until: string }) {
  const records = new Set(incident.records)
  return noticed.stories.filter((story) => story.saves.some((id) => records.has(noticed.saves[Number(id) - 1]!.key)))
}

describe.each([
  [4310, '2026-11-23'],
  [4310, '2026-06-10'],
  [1, '2027-01-02'],
  [2, '2026-04-20'],
  [3, '2027-03-10'],
])('noticing over Larkmere’s thirty months, seed %i, until %s', (seed, until) => {
  const history = generateHistory({ seed, small: true, until })
  const noticed = noticeHistory(history)
  const found = history.incidents.flatMap((incident) => {
    const want = wanted[incident.name]
    if (!want) return []
    const stories = about(noticed, incident).filter((story) => story.reasons[0]?.rule === want[0])
    return [
      {
        name: incident.name,
        headlines: stories.map((story) => headlineOf(story, noticed)),
        words: want[1],
        ids: stories.map((story) => story.id),
      },
    ]
  })
  const right = found.filter(
    ({ headlines, words }) => headlines.filter((headline) => words.test(headline)).length === 1,
  )
  const told = new Set(found.flatMap(({ ids }) => ids))
  const others = noticed.stories.filter((story) => !told.has(story.id))

  it('finds every planted incident and tells it rightly, once', () => {
    console.log(
      `seed ${seed} until ${until}: found ${right.length} of ${found.length}, missed ${found.length - right.length}, others told ${others.length} over ${noticed.workdays} working days`,
    )
    expect(found.filter((one) => !right.includes(one)).map(({ name, headlines }) => ({ name, headlines }))).toEqual([])
  })

  it('raises nothing on forty ordinary days', () => {
    const { from, until: end } = history.incidents.find((one) => one.name === 'ordinaryDays')!
    const raised = noticed.stories.filter((story) => overlaps(story, from, end) && !told.has(story.id))
    expect(raised.map((story) => headlineOf(story, noticed))).toEqual([])
  })

  it('tells no more than a person can read', () => {
    const days = new Map<string, number>()
    for (const { toMs } of noticed.stories) {
      const day = new Date(toMs).toISOString().slice(0, 10)
      days.set(day, (days.get(day) ?? 0) + 1)
    }
    expect(Math.max(...days.values())).toBeLessThanOrEqual(5)
    expect(noticed.stories.length / noticed.workdays).toBeLessThan(1)
  })
})
