import { addDays, arrayMembers } from '@spoor/core'
import { at, onOrBefore, workdayUpTo } from '../larkmere/calendar.ts'
import { accounts } from '../larkmere/staff.ts'
import { type Days, type Stage } from './days.ts'
import { accountHand, officerHand, type Row } from './recorder.ts'
import { type Incident, activeTenancies, iso, keyOf, officerOf } from './incident.ts'

const emptiedCount = 68

export function emptiedServices(days: Days, stage: Stage): Incident {
  const { recorder, until } = stage
  const day = onOrBefore(addDays(until, -5), 5)
  const fact: Incident = {
    name: 'emptiedServices',
    words: `A nightly import replaced support services by an empty set for ${emptiedCount} tenancies whose file row was short.`,
    who: [accounts.services.name],
    table: 'lettings.tenancy',
    fields: ['support_services'],
    records: [],
    from: iso(at(day, 2 + 4 / 60)),
    until: iso(at(day, 2 + 6 / 60)),
    counts: { saves: emptiedCount },
  }
  days.withoutServices(day)
  for (let n = 0; n < emptiedCount; n++)
    days.plan(day, 2 + 4 / 60 + n / 3600, (atMs) => {
      const row = activeTenancies(stage).find(
        (one) => (arrayMembers(one['support_services']!) ?? []).length >= 2 && !fact.records.includes(keyOf(one['id'])),
      )
      if (!row) return
      recorder.change(
        'lettings.tenancy',
        row['id']!,
        { support_services: '{}' },
        atMs,
        accountHand(accounts.services, `services ${day}`),
      )
      fact.records.push(keyOf(row['id']))
    })
  return fact
}

export function deletedTenant(days: Days, stage: Stage): Incident {
  const { recorder, until } = stage
  const ishbel = officerOf(stage, 'ishbel')
  const day = workdayUpTo(addDays(until, -20))
  const fact: Incident = {
    name: 'deletedTenant',
    words: 'A tenant was deleted, and with them by a cascade the tenancy, its account lines and its household.',
    who: [ishbel.name],
    table: 'lettings.tenant',
    fields: [],
    records: [],
    from: iso(at(day, 11.25)),
    until: iso(at(day, 11.25)),
    counts: {},
  }
  days.plan(day, 11.25, (atMs) => {
    const [entries, members] = (['lettings.rent_account_entry', 'lettings.household_member'] as const).map((table) => [
      ...recorder.table(table).values(),
    ])
    const held = new Set(members!.map((row) => row['tenancy_id']))
    const lines = new Map<string, Row[]>()
    for (const entry of entries!) lines.set(entry['tenancy_id']!, [...(lines.get(entry['tenancy_id']!) ?? []), entry])
    const tenancy = activeTenancies(stage)
      .filter((row) => held.has(row['id']!))
      .sort((a, b) => (lines.get(b['id']!)?.length ?? 0) - (lines.get(a['id']!)?.length ?? 0))[0]!
    const [hand, transaction] = [officerHand(ishbel, 'duplicate'), recorder.begin()]
    const mine = lines.get(tenancy['id']!) ?? []
    const household = members!.filter((row) => row['tenancy_id'] === tenancy['id'])
    recorder.remove('lettings.tenant', [tenancy['tenant_id']!], atMs, hand, transaction)
    recorder.remove('lettings.tenancy', [tenancy['id']!], atMs, hand, transaction)
    for (const line of mine) recorder.remove('lettings.rent_account_entry', [line['id']!], atMs, hand, transaction)
    for (const member of household)
      recorder.remove('lettings.household_member', [member['tenancy_id']!, member['place']!], atMs, hand, transaction)
    fact.records = [keyOf(tenancy['tenant_id'])]
    fact.counts = { saves: 2 + mine.length + household.length, accountLines: mine.length, household: household.length }
  })
  return fact
}
