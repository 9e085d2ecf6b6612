import { addDays } from '@spoor/core'
import { at, workdayFrom, workdayUpTo } from '../larkmere/calendar.ts'
import { accounts } from '../larkmere/staff.ts'
import { lastUplift, type Days, type Stage } from './days.ts'
import { accountHand, officerHand, terminalHand } from './recorder.ts'
import { type Incident, activeTenancies, iso, keyOf, officerOf } from './incident.ts'

const gapDays = 3
const gapChanges = 11

export function gap(days: Days, stage: Stage): Incident {
  const { recorder, chance, until } = stage
  const first = workdayFrom(addDays(until, -380))
  const last = addDays(first, gapDays)
  const ishbel = officerOf(stage, 'ishbel')
  const fact: Incident = {
    name: 'gap',
    words:
      'Tracking of deposit was switched off for three days and on again, with changes inside that nobody will ever see.',
    who: [],
    table: 'lettings.tenancy',
    fields: ['deposit'],
    records: [],
    from: iso(at(first, 9)),
    until: iso(at(last, 9)),
    counts: {},
  }
  const other = (held: string | null) =>
    chance.pick(['250.00', '350.00', '425.00', '500.00'].filter((figure) => figure !== held))
  const change = (id: string, atMs: number, reason: string) => {
    const row = recorder.table('lettings.tenancy').get(keyOf(id))
    if (row)
      recorder.change('lettings.tenancy', id, { deposit: other(row['deposit']!) }, atMs, officerHand(ishbel, reason))
  }
  days.plan(first, 9, () => recorder.unseen.add('lettings.tenancy.deposit'))
  days.plan(first, 14, (atMs) => {
    for (const row of chance.some(activeTenancies(stage), gapChanges)) change(row['id']!, atMs, 'deposit scheme')
  })
  days.plan(last, 9, () => {
    recorder.unseen.delete('lettings.tenancy.deposit')
    fact.records = [...recorder.changedUnseen]
    fact.counts = { unseen: recorder.changedUnseen.size }
    // Each is changed once more within the next months, so that what the trail says last is what the record holds.
    for (const key of recorder.changedUnseen)
      days.plan(workdayFrom(addDays(last, chance.whole(5, 120))), 10 + chance.next() * 5, (atMs) =>
        change((JSON.parse(key) as string[])[0]!, atMs, 'deposit checked'),
      )
  })
  return fact
}

const terminalCount = 5

export function terminal(days: Days, stage: Stage): Incident {
  const { recorder, chance, until } = stage
  const day = workdayUpTo(addDays(until, -3))
  const fact: Incident = {
    name: 'terminal',
    words: `${terminalCount} deposits were set to 0.00 straight in the database at 02:40 by a login nobody is known by.`,
    who: ['login maint_ro'],
    table: 'lettings.tenancy',
    fields: ['deposit'],
    records: [],
    from: iso(at(day, 2 + 40 / 60)),
    until: iso(at(day, 2 + 41 / 60)),
    counts: { saves: terminalCount },
  }
  days.plan(day, 2 + 40 / 60, (atMs) => {
    const transaction = recorder.begin()
    const chosen = chance.some(
      activeTenancies(stage).filter((row) => row['deposit'] !== '0.00'),
      terminalCount,
    )
    for (const row of chosen)
      recorder.change('lettings.tenancy', row['id']!, { deposit: '0.00' }, atMs, terminalHand, transaction)
    fact.records = chosen.map((row) => keyOf(row['id']))
  })
  return fact
}

const delegateCount = 24
const delegateDays = 4

export function delegate(days: Days, stage: Stage): Incident {
  const { recorder, chance, until } = stage
  const ansel = officerOf(stage, 'ansel')
  const first = workdayFrom(addDays(until, -31))
  const leave = [first]
  while (leave.length < delegateDays) leave.push(workdayFrom(addDays(leave.at(-1)!, 1)))
  const last = leave.at(-1)!
  const fact: Incident = {
    name: 'delegate',
    words: 'The software supplier’s support acted for an officer who was on leave.',
    who: [accounts.supplier.name],
    table: 'lettings.tenancy',
    fields: ['review_date', 'officer_id'],
    records: [],
    from: iso(at(first, 0)),
    until: iso(at(addDays(last, 1), 0)),
    counts: { saves: delegateCount },
  }
  days.sendOnLeave(ansel.name, first, last)
  for (const day of leave) {
    for (let m = 0; m < delegateCount / delegateDays; m++)
      days.plan(day, 10 + m / 3, (atMs) => {
        const row = chance.pick(activeTenancies(stage).filter((one) => !fact.records.includes(keyOf(one['id']))))
        const reviewed = addDays(row['review_date'] ?? first, 28)
        recorder.change(
          'lettings.tenancy',
          row['id']!,
          { review_date: reviewed },
          atMs,
          accountHand(accounts.supplier, undefined, ansel.name),
        )
        fact.records.push(keyOf(row['id']))
      })
  }
  return fact
}

/** A spell of forty days clear of every incident. */
export function ordinaryDays({ until }: Stage): Incident {
  const uplifted = lastUplift(until)
  const offset = [80, 130, 180, 290].find((days) => {
    const [first, last] = [addDays(until, -days), addDays(until, -days + 40)]
    return last <= uplifted || first > addDays(uplifted, 16)
  })!
  return {
    name: 'ordinaryDays',
    words: 'Forty ordinary days on which nothing is wrong.',
    who: [],
    table: null,
    fields: [],
    records: [],
    from: iso(at(addDays(until, -offset), 0)),
    until: iso(at(addDays(until, -offset + 40), 0)),
    counts: {},
  }
}
