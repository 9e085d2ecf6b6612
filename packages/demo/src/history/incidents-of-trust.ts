import { addDays } from '@spoor/core'
import { at, onOrBefore, workdayFrom, workdayUpTo } from '../larkmere/calendar.ts'
import { type Officer } from '../larkmere/staff.ts'
import { bankAccount, certificateRow, firstContractor, firstHome } from './beginning.ts'
import { type Days, type Stage } from './days.ts'
import { money, officerHand, type Row } from './recorder.ts'
import { type Incident, iso, keyOf, officerOf } from './incident.ts'

export function bankAccountThereAndBack(days: Days, stage: Stage): Incident {
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

export function backdatedCertificates(days: Days, stage: Stage): Incident {
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

export function raisedUnitPrices(days: Days, stage: Stage): Incident {
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
