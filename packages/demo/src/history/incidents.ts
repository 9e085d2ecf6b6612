import { addDays, arrayMembers } from '@spoor/core'
import { at, onOrBefore, workdayFrom, workdayUpTo } from '../larkmere/calendar.ts'
import { accounts, namedOfficers, type Officer } from '../larkmere/staff.ts'
import { bankAccount, certificateRow, firstContractor, firstHome } from './beginning.ts'
import { lastUplift, type Days, type Stage } from './days.ts'
import { accountHand, money, officerHand, terminalHand, type Row } from './recorder.ts'
import type { TrackedTable } from './tracked.ts'

export const incidentNames = [
  'uplift',
  'bankAccount',
  'certificates',
  'unitPrices',
  'emptiedServices',
  'deletedTenant',
  'mistypedBand',
  'gap',
  'terminal',
  'delegate',
  'ordinaryDays',
] as const
export type IncidentName = (typeof incidentNames)[number]

/** What is known to be true of one planted incident; nothing in the data itself marks it. */
export interface Incident {
  name: IncidentName
  words: string
  /** Names of the actors, as the ledger should have them. */
  who: string[]
  table: TrackedTable | null
  fields: string[]
  /** Keys of the records, canonical JSON text. */
  records: string[]
  /** First and last moment, ISO 8601; `until` is exclusive for spells of days. */
  from: string
  until: string
  /** Further numbers by name. */
  counts: Record<string, number>
}

const iso = (ms: number) => new Date(ms).toISOString()
const keyOf = (id: string | null | undefined) => JSON.stringify([id])

/** Puts the incidents on the diary. The records are filled in as the days are played. */
export function plant(days: Days, stage: Stage): Incident[] {
  return [
    uplift(days, stage),
    bankAccountThereAndBack(days, stage),
    backdatedCertificates(days, stage),
    raisedUnitPrices(days, stage),
    emptiedServices(days, stage),
    deletedTenant(days, stage),
    mistypedBand(days, stage),
    gap(days, stage),
    terminal(days, stage),
    delegate(days, stage),
    ordinaryDays(stage),
  ]
}

function officerOf({ officers }: Stage, name: keyof typeof namedOfficers): Officer {
  return officers.find((officer) => officer.name === namedOfficers[name].name)!
}

function activeTenancies({ recorder }: Stage): Row[] {
  return [...recorder.table('lettings.tenancy').values()].filter((row) => row['status'] === 'active')
}

const upliftCount = 412
const upliftCorrected = 37

function uplift(days: Days, stage: Stage): Incident {
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

function bankAccountThereAndBack(days: Days, stage: Stage): Incident {
  const { recorder, chance, until } = stage
  const friday = onOrBefore(addDays(until, -5), 5)
  const monday = addDays(friday, 3)
  const oona = officerOf(stage, 'oona')
  const id = String(firstContractor)
  const fact: Incident = {
    name: 'bankAccount',
    words:
      'A contractor’s bank account was changed on a Friday evening and changed back on Monday morning, with a payment between.',
    who: [oona.name],
    table: 'contractors.contractor',
    fields: ['bank_account', 'account_holder'],
    records: [keyOf(id)],
    from: iso(at(friday, 16 + 52 / 60)),
    until: iso(at(monday, 7 + 58 / 60)),
    counts: { saves: 2, payments: 1 },
  }
  const held: Row = {}
  days.plan(friday, 16 + 52 / 60 + 7 / 3600, (atMs) => {
    const { bank_account, account_holder } = recorder.row('contractors.contractor', id)
    Object.assign(held, { bank_account, account_holder })
    recorder.change(
      'contractors.contractor',
      id,
      {
        bank_account: bankAccount(chance),
        account_holder: `${recorder.row('contractors.contractor', id)['name']} Services`,
      },
      atMs,
      officerHand(oona, 'per phone call'),
    )
  })
  days.plan(addDays(friday, 1), 6, (atMs) => days.pay(id, addDays(friday, 1), atMs))
  days.plan(monday, 7 + 58 / 60, (atMs) =>
    recorder.change('contractors.contractor', id, { ...held }, atMs, officerHand(oona)),
  )
  return fact
}

const certificateCount = 9

function backdatedCertificates(days: Days, stage: Stage): Incident {
  const { recorder, chance, until, size } = stage
  const piet = officerOf(stage, 'piet')
  const first = workdayFrom(addDays(until, -225))
  const fact: Incident = {
    name: 'certificates',
    words: `${certificateCount} gas certificates were given an inspection date eleven months before the day they were entered, by one engineer, spread over five weeks.`,
    who: [piet.name],
    table: 'safety.certificate',
    fields: ['inspected_on'],
    records: [],
    from: iso(at(first, 0)),
    until: iso(at(addDays(first, 36), 0)),
    counts: { saves: certificateCount },
  }
  for (let n = 0; n < certificateCount; n++) {
    const day = workdayFrom(addDays(first, n * 4))
    days.plan(day, 11.4 + chance.next() * 3, (atMs) => {
      const inspected = addDays(day, -334)
      const row = certificateRow(
        chance,
        days.nextCertificate(),
        String(firstHome + chance.whole(0, size.homes - 1)),
        inspected,
        day,
        piet.name,
      )
      recorder.create(
        'safety.certificate',
        { ...row, kind: 'gas', valid_until: addDays(inspected, 365) },
        atMs,
        officerHand(piet),
      )
      fact.records.push(keyOf(row['id']))
    })
  }
  return fact
}

const raiseCount = 14

function raisedUnitPrices(days: Days, stage: Stage): Incident {
  const { recorder, chance, until } = stage
  const tariq = officerOf(stage, 'tariq')
  const raiseDays: string[] = []
  // One a day on most of the last working days, so that no holiday can push any out of the history.
  for (
    let day = workdayUpTo(addDays(until, -3)), n = 0;
    raiseDays.length < raiseCount;
    day = workdayUpTo(addDays(day, -1)), n++
  )
    if (n % 5 !== 3) raiseDays.unshift(day)
  const fact: Incident = {
    name: 'unitPrices',
    words: `${raiseCount} unit prices of repair lines were raised after approval by somebody other than the raiser, each just under the approval limit of 150.00.`,
    who: [tariq.name],
    table: 'repairs.repair_line',
    fields: ['unit_price', 'amount'],
    records: [],
    from: iso(at(raiseDays[0]!, 0)),
    until: iso(at(addDays(until, -2), 0)),
    counts: { saves: raiseCount },
  }
  for (const day of raiseDays) {
    days.plan(day, 16.2 + chance.next() * 0.6, (atMs) => {
      const line = approvedLine(stage, tariq, fact.records)
      if (!line) return
      recorder.change(
        'repairs.repair_line',
        line['id']!,
        { unit_price: money(146 + chance.whole(0, 78) / 20) },
        atMs,
        officerHand(tariq),
      )
      fact.records.push(keyOf(line['id']))
    })
  }
  return fact
}

/** A line of an approved order that somebody else raised; of one still open when there is any. */
function approvedLine({ recorder }: Stage, by: Officer, taken: readonly string[]): Row | undefined {
  const approved = [...recorder.table('repairs.repair_order').values()].filter(
    (order) => order['approved_by'] !== null && order['raised_by'] !== String(by.id),
  )
  const open = new Set(approved.filter((order) => order['completed_on'] === null).map((order) => order['id']))
  const all = new Set(approved.map((order) => order['id']))
  const lines = [...recorder.table('repairs.repair_line').values()]
    .filter(
      (line) => line['quantity'] === '1.00' && Number(line['unit_price']) < 130 && !taken.includes(keyOf(line['id'])),
    )
    .reverse()
  return lines.find((line) => open.has(line['order_id']!)) ?? lines.find((line) => all.has(line['order_id']!))
}

const emptiedCount = 68

function emptiedServices(days: Days, stage: Stage): Incident {
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

function deletedTenant(days: Days, stage: Stage): Incident {
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

const bandDerived = 6

function mistypedBand(days: Days, stage: Stage): Incident {
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

const gapDays = 3
const gapChanges = 11

function gap(days: Days, stage: Stage): Incident {
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

function terminal(days: Days, stage: Stage): Incident {
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

function delegate(days: Days, stage: Stage): Incident {
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
function ordinaryDays({ until }: Stage): Incident {
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
