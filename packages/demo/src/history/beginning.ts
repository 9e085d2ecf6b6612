import { addDays, arrayLiteral } from '@spoor/core'
import type { Chance } from '../larkmere/chance.ts'
import type { Officer } from '../larkmere/staff.ts'
import {
  amenities,
  findingTexts,
  firms,
  firmTrades,
  firstNames,
  jobCodes,
  lastNames,
  noteSentences,
  repairTexts,
  services,
  streets,
  trades,
} from '../larkmere/words.ts'
import { money, type Recorder, type Row } from './recorder.ts'

/** How large a Larkmere is: the small one is a tenth. */
export interface Size {
  homes: number
  orders: number
  certificates: number
  contractors: number
}

export const fullSize: Size = { homes: 5000, orders: 30_000, certificates: 12_000, contractors: 240 }
export const smallSize: Size = { homes: 560, orders: 3000, certificates: 1200, contractors: 60 }

export const bands = ['A', 'B', 'C', 'D', 'E', 'F'] as const
export const bandFigures: Readonly<Record<string, number>> = {
  A: 88.4,
  B: 96.2,
  C: 104.2,
  D: 115.75,
  E: 128.1,
  F: 143.6,
}

export const firstHome = 1001
export const firstTenancy = 10_001
export const firstOrder = 20_001
export const firstContractor = 501
const firstCertificate = 4001

export function bankAccount(chance: Chance): string {
  const four = () => String(chance.whole(0, 9999)).padStart(4, '0')
  // LM is no country, and 00 fails every check of digits.
  return `LM00 ${four()} ${four()} ${four()}`
}

export function personName(chance: Chance): string {
  return `${chance.pick(firstNames)} ${chance.pick(lastNames)}`
}

export function notes(chance: Chance): string {
  return chance.some(noteSentences, chance.whole(1, 3)).join(' ')
}

/** Larkmere as it stood on the first day of the history. */
export function found(
  recorder: Recorder,
  chance: Chance,
  size: Size,
  officers: readonly Officer[],
  from: string,
): void {
  for (const officer of officers) if (officer.joinedOn < from) recorder.found('reference.officer', officerRow(officer))
  for (const code of bands)
    recorder.found('reference.rent_band', {
      code,
      name: `Band ${code}`,
      weekly_figure: money(bandFigures[code]!),
      in_force_from: `${Number(from.slice(0, 4))}-04-01`,
    })
  contractorsFound(recorder, chance.fork('contractors'), size, from)
  homesFound(recorder, chance.fork('homes'), size, officers, from)
  ordersFound(recorder, chance.fork('orders'), size, from)
  certificatesFound(recorder, chance.fork('certificates'), size, from)
}

export function officerRow({ id, name, patch, joinedOn }: Officer): Row {
  return { id: String(id), full_name: name, patch, joined_on: joinedOn, left_on: null }
}

function contractorsFound(recorder: Recorder, chance: Chance, size: Size, from: string): void {
  for (let at = 0; at < size.contractors; at++) {
    const id = firstContractor + at
    const round = Math.floor(at / (firms.length * firmTrades.length))
    const name = `${firms[at % firms.length]} ${firmTrades[Math.floor(at / firms.length + at) % firmTrades.length]}${round > 0 ? ` ${round + 1}` : ''}`
    recorder.found('contractors.contractor', {
      id: String(id),
      name,
      bank_account: bankAccount(chance),
      account_holder: `${name} Ltd`,
      insurance_expiry: addDays(from, chance.whole(20, 400)),
      approved_trades: arrayLiteral(chance.some(trades, chance.whole(1, 4))),
      status: 'approved',
    })
    for (let n = 0; n < 2; n++) {
      const [code, , , price] = chance.pick(jobCodes)
      recorder.found('contractors.contract_rate', {
        id: String(id * 10 + n),
        contractor_id: String(id),
        job_code: code,
        rate: money(price * (0.9 + chance.next() * 0.3)),
        valid_from: addDays(from, -200),
        valid_until: addDays(from, chance.whole(200, 900)),
        note: null,
      })
    }
  }
}

function homesFound(recorder: Recorder, chance: Chance, size: Size, officers: readonly Officer[], from: string): void {
  const lettings = officers.filter((officer) => officer.team === 'lettings' && officer.joinedOn < from)
  for (let at = 0; at < size.homes; at++) {
    const id = String(firstHome + at)
    const band = chance.pick(bands)
    recorder.found('lettings.home', {
      id,
      address: `${1 + Math.floor(at / streets.length)} ${streets[at % streets.length]}`,
      bedrooms: String(chance.whole(1, 4)),
      floor_area: (32 + chance.whole(0, 600) / 10).toFixed(1),
      rent_band: band,
      epc_rating: chance.pick(['B', 'C', 'C', 'D', 'D', 'E']),
      amenities: arrayLiteral(chance.some(amenities, chance.whole(0, 4))),
      key_safe_code: chance.odds(0.3) ? String(chance.whole(1000, 9999)) : null,
      settings: JSON.stringify({
        heating: { kind: chance.pick(['gas', 'electric', 'district']), controls: chance.odds(0.3) },
      }),
    })
    if (at >= size.homes * 0.95) continue // Empty at the moment.
    const tenant = tenantRow(chance, at + 1, from)
    recorder.found('lettings.tenant', tenant)
    const tenancy = tenancyRow(
      chance,
      firstTenancy + at,
      id,
      tenant['id']!,
      band,
      addDays(from, -chance.whole(100, 5000)),
      chance.pick(lettings).id,
    )
    recorder.found('lettings.tenancy', { ...tenancy, balance: money(chance.whole(-8000, 24_000) / 100) })
    if (chance.odds(0.4))
      memberRows(chance, tenancy['id']!, from).forEach((member) => recorder.found('lettings.household_member', member))
  }
}

export function memberRows(chance: Chance, tenancyId: string, day: string): Row[] {
  return Array.from({ length: chance.whole(1, 3) }, (_, place) => ({
    tenancy_id: tenancyId,
    place: String(place + 1),
    full_name: personName(chance),
    born_on: addDays(day, -chance.whole(400, 20_000)),
  }))
}

export function tenantRow(chance: Chance, id: number, day: string): Row {
  const name = personName(chance)
  return {
    id: String(id),
    full_name: name,
    date_of_birth: addDays(day, -chance.whole(7000, 30_000)),
    phone: `01632 960${String(chance.whole(0, 999)).padStart(3, '0')}`,
    email: chance.odds(0.7) ? `${name.toLowerCase().replace(/[^a-z]+/g, '.')}.${id}@post.example` : null,
    preferred_contact: chance.pick(['letter', 'phone', 'email']),
  }
}

/** Rents follow the home's band, a little up or down for its fittings. */
export function rentFor(chance: Chance, figure: number): string {
  return money(Math.round(figure * (0.97 + chance.next() * 0.06) * 20) / 20)
}

export function tenancyRow(
  chance: Chance,
  id: number,
  homeId: string,
  tenantId: string,
  band: string,
  startOn: string,
  officerId: number,
  figure = bandFigures[band]!,
): Row {
  const served = chance.odds(0.32)
  return {
    id: String(id),
    home_id: homeId,
    tenant_id: tenantId,
    weekly_rent: rentFor(chance, figure),
    service_charge: money(8 + chance.whole(0, 180) / 20),
    deposit: chance.pick(['0.00', '250.00', '425.00', '425.00', '500.00']),
    status: 'active',
    start_on: startOn,
    end_on: null,
    review_date: addDays(startOn, 365),
    support_services: arrayLiteral(served ? chance.some(services, chance.whole(2, 5)) : []),
    officer_id: String(officerId),
    balance: '0.00',
    notes: chance.odds(0.5) ? notes(chance) : null,
  }
}

function ordersFound(recorder: Recorder, chance: Chance, size: Size, from: string): void {
  const before = Math.floor(size.orders * 0.5)
  for (let at = 0; at < before; at++) {
    const raised = addDays(from, -chance.whole(5, 900))
    const id = String(firstOrder + at)
    recorder.found('repairs.repair_order', {
      ...orderRow(chance, id, String(firstHome + chance.whole(0, size.homes - 1)), raised, null),
      contractor_id: String(firstContractor + chance.whole(0, size.contractors - 1)),
      status: 'completed',
      completed_on: addDays(raised, chance.whole(1, 4)),
    })
    for (const line of lineRows(chance, id, at)) recorder.found('repairs.repair_line', line)
  }
}

export function orderRow(chance: Chance, id: string, homeId: string, day: string, raisedBy: number | null): Row {
  return {
    id,
    home_id: homeId,
    contractor_id: null,
    priority: chance.pick(['routine', 'routine', 'routine', 'urgent', 'emergency']),
    status: 'raised',
    description: chance.pick(repairTexts),
    raised_on: day,
    raised_by: raisedBy === null ? null : String(raisedBy),
    promised_on: addDays(day, chance.whole(1, 20)),
    completed_on: null,
    effective_on: day,
    approved_by: null,
    approved_limit: null,
    access_notes: chance.odds(0.2) ? 'Ring first.' : null,
  }
}

const mostLines = 4

export function lineRows(chance: Chance, orderId: string, orderIndex: number): Row[] {
  const count = chance.pick([1, 2, 2, 3, mostLines])
  return Array.from({ length: count }, (_, n) => {
    const [code, , , price] = chance.pick(jobCodes)
    return {
      id: String(100_001 + orderIndex * mostLines + n),
      order_id: orderId,
      job_code: code,
      quantity: `${chance.whole(1, 3)}.00`,
      unit_price: money(price),
    }
  })
}

function certificatesFound(recorder: Recorder, chance: Chance, size: Size, from: string): void {
  const before = Math.floor(size.certificates * 0.35)
  for (let at = 0; at < before; at++) {
    const inspected = addDays(from, -chance.whole(5, 700))
    recorder.found(
      'safety.certificate',
      certificateRow(
        chance,
        firstCertificate + at,
        String(firstHome + chance.whole(0, size.homes - 1)),
        inspected,
        addDays(inspected, chance.whole(0, 3)),
        'Piet Okonjo',
      ),
    )
  }
}

export function certificateRow(
  chance: Chance,
  id: number,
  homeId: string,
  inspected: string,
  entered: string,
  engineer: string,
): Row {
  const kind = chance.pick(['gas', 'gas', 'electrical', 'energy'])
  return {
    id: String(id),
    home_id: homeId,
    kind,
    inspected_on: inspected,
    valid_until: addDays(inspected, kind === 'gas' ? 365 : 1825),
    engineer,
    result: chance.odds(0.94) ? 'pass' : 'advisory',
    findings: chance.pick(findingTexts),
    entered_on: entered,
  }
}
