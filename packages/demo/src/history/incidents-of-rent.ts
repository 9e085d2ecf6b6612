import { addDays } from '@spoor/core'
import { at, workdayFrom, workdayUpTo } from '../larkmere/calendar.ts'
import { accounts, namedOfficers } from '../larkmere/staff.ts'
import { lastUplift, type Days, type Stage } from './days.ts'
import { accountHand, money, officerHand, type Row } from './recorder.ts'
import { type Incident, activeTenancies, iso, keyOf, officerOf } from './incident.ts'

const upliftCount = 412
const upliftCorrected = 37

export function uplift(days: Days, stage: Stage): Incident {
  const { recorder, until, chance } = stage
  const day = lastUplift(until)
  const noticed = workdayFrom(addDays(day, 14))
  const fact: Incident = {
    name: 'uplift',
    words: `The rent uplift used the wrong band table: ${upliftCount} rents rose by 10.2 % instead of 5.1 %, ${upliftCorrected} of which were changed by hand before anyone noticed.`,
    who: [accounts.uplift.name],
    table: 'lettings.tenancy',
    fields: ['weekly_rent', 'monthly_rent'],
    records: [],
    from: iso(at(day, 17.5)),
    until: iso(at(noticed, 0)),
    counts: { saves: upliftCount, changedByHand: upliftCorrected },
  }
  const keeper = officerOf(stage, 'ruth')
  const colleague = stage.officers.findLast(
    (one) =>
      one.team === 'lettings' && one.joinedOn < day && one.leftOn === null && one.name !== namedOfficers.ansel.name,
  )!
  for (const key of recorder.table('reference.rent_band').keys()) {
    days.plan(day, 10, (atMs) => {
      const code = (JSON.parse(key) as string[])[0]!
      const figure = Math.round(days.figure(code) * 1.051 * 20) / 20
      days.setFigure(code, figure)
      recorder.change(
        'reference.rent_band',
        code,
        { weekly_figure: money(figure), in_force_from: day },
        atMs,
        officerHand(keeper, 'board decision'),
      )
    })
  }
  const raise = (row: Row, factor: number, atMs: number, run: string, transaction: number) =>
    recorder.change(
      'lettings.tenancy',
      row['id']!,
      { weekly_rent: money(Math.round(Number(row['weekly_rent']) * factor * 20) / 20) },
      atMs,
      accountHand(accounts.uplift, run),
      transaction,
    )
  days.plan(day, 17.5, (atMs) => {
    const transaction = recorder.begin()
    const chosen = activeTenancies(stage).slice(0, upliftCount)
    for (const row of chosen) raise(row, 1.102, atMs, `rent uplift ${day.slice(0, 4)}`, transaction)
    fact.records = chosen.map((row) => keyOf(row['id']))
    for (const row of chance.some(chosen, upliftCorrected)) {
      const officer = chance.odds(0.5) ? officerOf(stage, 'ishbel') : colleague
      const on = workdayFrom(addDays(day, chance.whole(1, 11)))
      const right = money(Math.round((Number(row['weekly_rent']) / 1.102) * 1.051 * 20) / 20)
      days.plan(on, 9.3 + chance.next() * 6.5, (then) => {
        const now = recorder.table('lettings.tenancy').get(keyOf(row['id']))
        if (now)
          recorder.change(
            'lettings.tenancy',
            row['id']!,
            { weekly_rent: now['weekly_rent'] === right ? money(Number(right) + 0.05) : right },
            then,
            officerHand(officer, 'tenant queried the letter'),
          )
      })
    }
  })
  // Everybody else's uplift, a night later and right.
  days.plan(workdayFrom(addDays(day, 1)), 17.5, (atMs) => {
    const transaction = recorder.begin()
    for (const row of activeTenancies(stage))
      if (!fact.records.includes(keyOf(row['id'])))
        raise(row, 1.051, atMs, `rent uplift ${day.slice(0, 4)}, second part`, transaction)
  })
  return fact
}

const bandDerived = 6

export function mistypedBand(days: Days, stage: Stage): Incident {
  const { recorder, until } = stage
  const ruth = officerOf(stage, 'ruth')
  const day = workdayUpTo(addDays(until, -16))
  const fact: Incident = {
    name: 'mistypedBand',
    words: `The figure of band C was mistyped by a factor of ten and corrected two hours later; meanwhile the band check raised ${bandDerived} rents by it.`,
    who: [ruth.name, accounts.bandCheck.name],
    table: 'reference.rent_band',
    fields: ['weekly_figure'],
    records: [keyOf('C')],
    from: iso(at(day, 10 + 20 / 60)),
    until: iso(at(day, 12.75)),
    counts: { saves: 2, derived: bandDerived },
  }
  let right: string | null = null
  days.plan(day, 10 + 20 / 60, (atMs) => {
    right = recorder.row('reference.rent_band', 'C')['weekly_figure']!
    recorder.change(
      'reference.rent_band',
      'C',
      { weekly_figure: money(Number(right) * 10) },
      atMs,
      officerHand(ruth, 'service charge split'),
    )
  })
  const before = new Map<string, string>()
  days.plan(day, 11.25, (atMs) => {
    const transaction = recorder.begin()
    const inBand = activeTenancies(stage)
      .filter((row) => recorder.row('lettings.home', row['home_id']!)['rent_band'] === 'C')
      .slice(-bandDerived)
    for (const row of inBand) {
      before.set(row['id']!, row['weekly_rent']!)
      recorder.change(
        'lettings.tenancy',
        row['id']!,
        { weekly_rent: money(Number(right) * 10) },
        atMs,
        accountHand(accounts.bandCheck, `band check ${day}`),
        transaction,
      )
    }
  })
  days.plan(day, 12 + 20 / 60, (atMs) =>
    recorder.change('reference.rent_band', 'C', { weekly_figure: right }, atMs, officerHand(ruth, 'typed wrongly')),
  )
  days.plan(day, 12.75, (atMs) => {
    const transaction = recorder.begin()
    for (const [id, rent] of before)
      recorder.change(
        'lettings.tenancy',
        id,
        { weekly_rent: rent },
        atMs,
        accountHand(accounts.bandCheck, `band check ${day}, second`),
        transaction,
      )
  })
  return fact
}
