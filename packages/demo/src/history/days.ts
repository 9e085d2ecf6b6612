import { addDays, arrayLiteral, arrayMembers } from '@spoor/core'
import { at, daysBetween, isWorkday, onOrAfter, weekday, workdayFrom } from '../larkmere/calendar.ts'
import type { Chance } from '../larkmere/chance.ts'
import { accounts, namedOfficers, type Officer, type Team } from '../larkmere/staff.ts'
import { amenities, reviewReasons, services, trades } from '../larkmere/words.ts'
import {
  bandFigures,
  bankAccount,
  bands,
  certificateRow,
  firstContractor,
  firstHome,
  firstOrder,
  firstTenancy,
  lineRows,
  memberRows,
  notes,
  officerRow,
  orderRow,
  rentFor,
  tenancyRow,
  tenantRow,
  type Size,
} from './beginning.ts'
import { accountHand, money, officerHand, type Recorder, type Row } from './recorder.ts'

/** How busy a usual working day is, in saves or cases, for a Larkmere of a given size. */
export interface Pace {
  orders: number
  edits: number
  payments: number
  serviceChanges: number
  certificates: number
  moves: number
}

export function paceOf(size: Size): Pace {
  const part = size.homes / 5000
  return {
    orders: 25 * part,
    edits: 78 * part,
    payments: 38 * part,
    serviceChanges: 8 * part,
    certificates: 12 * part,
    moves: 1.9 * part,
  }
}

type Task = (atMs: number) => void

export interface Stage {
  recorder: Recorder
  chance: Chance
  size: Size
  officers: readonly Officer[]
  from: string
  until: string
}

/** Plays Larkmere's days one after another; things begun one day are finished on later ones. */
export class Days {
  readonly #stage: Stage
  readonly #pace: Pace
  readonly #later = new Map<string, { hour: number; task: Task }[]>()
  readonly #next: {
    order: number
    certificate: number
    tenancy: number
    tenant: number
    entry: number
    payment: number
  }
  readonly #moved = new Set<string>()
  readonly #noServices = new Set<string>()
  readonly #leave: { name: string; from: string; until: string }[] = []
  #figures: Record<string, number> = { ...bandFigures }

  constructor(stage: Stage) {
    this.#stage = stage
    this.#pace = paceOf(stage.size)
    const { homes, orders, certificates } = stage.size
    this.#next = {
      order: Math.floor(orders * 0.5),
      certificate: 4001 + Math.floor(certificates * 0.35),
      tenancy: firstTenancy + homes,
      tenant: homes + 1,
      entry: 1,
      payment: 1,
    }
  }

  /** Puts something on the diary; of what falls outside the history nothing happens. */
  plan(date: string, hour: number, task: Task): void {
    const list = this.#later.get(date)
    if (list) list.push({ hour, task })
    else this.#later.set(date, [{ hour, task }])
  }

  /** No ordinary services import in the night of this day. */
  withoutServices(date: string): void {
    this.#noServices.add(date)
  }

  /** Somebody is away from `from` up to and including `until`. */
  sendOnLeave(name: string, from: string, until: string): void {
    this.#leave.push({ name, from, until })
  }

  nextEntry(): string {
    return String(this.#next.entry++)
  }

  nextPayment(): string {
    return String(this.#next.payment++)
  }

  nextCertificate(): number {
    return this.#next.certificate++
  }

  /** Sets what a band's rent is from now on. */
  setFigure(band: string, figure: number): void {
    this.#figures = { ...this.#figures, [band]: figure }
  }

  figure(band: string): number {
    return this.#figures[band]!
  }

  /** `report` gets the share of the days that have passed, from 0 to 1. */
  play(report: (share: number) => void): void {
    const { from, until } = this.#stage
    const days = daysBetween(from, until)
    for (let n = 0; n < days; n++) {
      const date = addDays(from, n)
      this.#night(date)
      if (isWorkday(date)) this.#workday(date)
      else if (weekday(date) === 6) this.#saturday(date)
      this.#uplift(date)
      const tasks = (this.#later.get(date) ?? []).sort((a, b) => a.hour - b.hour)
      this.#later.delete(date)
      for (const { hour, task } of tasks) task(at(date, hour))
      if (n % 20 === 0) report(n / days)
    }
    report(1)
  }

  #at(team: Team | null, date: string): Officer[] {
    const away = this.#leave.filter((leave) => leave.from <= date && date <= leave.until).map((leave) => leave.name)
    return this.#stage.officers.filter(
      (o) =>
        (team === null || o.team === team) &&
        o.joinedOn <= date &&
        (o.leftOn === null || o.leftOn > date) &&
        !away.includes(o.name),
    )
  }

  /** The officer, or whoever of the team stands in when they are away or gone by then. */
  #onDuty(officer: Officer, date: string): Officer {
    const team = this.#at(officer.team, date)
    return team.find((one) => one.id === officer.id) ?? team[0] ?? officer
  }

  #hour(officer: Officer): number {
    const { chance } = this.#stage
    // Fewest at noon, most in mid-morning and mid-afternoon.
    const hour = officer.from + chance.next() * (officer.until - officer.from)
    return hour > 12 && hour < 13 && chance.odds(0.7) ? hour - 1.2 : hour
  }

  /** A whole number whose mean is `mean`. */
  #about(mean: number): number {
    const wanted = mean * (0.7 + this.#stage.chance.next() * 0.6)
    return Math.floor(wanted) + (this.#stage.chance.odds(wanted % 1) ? 1 : 0)
  }

  #tenancyId(): string {
    const { chance, size } = this.#stage
    return String(firstTenancy + chance.whole(0, Math.floor(size.homes * 0.95) - 1))
  }

  /** The imports at two in the morning, every day of the week but few payments on Mondays. */
  #night(date: string): void {
    const { chance, recorder } = this.#stage
    const quiet = weekday(date) === 7 || weekday(date) === 1
    const payments = this.#about(this.#pace.payments * (quiet ? 0.25 : 1))
    const run = `payments ${date}`
    for (let n = 0; n < payments; n++) this.plan(date, 2 + n / 3600, (atMs) => this.#payment(atMs, date, run))
    const changes = quiet || this.#noServices.has(date) ? 0 : this.#about(this.#pace.serviceChanges)
    for (let n = 0; n < changes; n++)
      this.plan(date, 2.06 + n / 7200, (atMs) => {
        const id = this.#tenancyId()
        const row = recorder.table('lettings.tenancy').get(JSON.stringify([id]))
        if (!row) return
        const held = arrayMembers(row['support_services']!) as string[]
        // Never the last member by the import: only a person takes all support away.
        const next =
          held.length > 2 && chance.odds(0.3) ? held.slice(1) : [...new Set([...held, chance.pick(services)])]
        recorder.change(
          'lettings.tenancy',
          id,
          { support_services: arrayLiteral(next) },
          atMs,
          accountHand(accounts.services, `services ${date}`),
        )
      })
  }

  #payment(atMs: number, date: string, run: string): void {
    const { chance, recorder } = this.#stage
    const id = this.#tenancyId()
    const row = recorder.table('lettings.tenancy').get(JSON.stringify([id]))
    if (!row) return
    const charge = chance.odds(0.45)
    const amount = charge
      ? Number(row['weekly_rent']) * chance.whole(1, 4)
      : -Number(row['weekly_rent']) * chance.whole(1, 4)
    const [hand, transaction] = [accountHand(accounts.payments, run), recorder.begin()]
    recorder.create(
      'lettings.rent_account_entry',
      {
        id: this.nextEntry(),
        tenancy_id: id,
        posted_on: date,
        kind: charge ? 'charge' : 'payment',
        amount: money(amount),
        memo: null,
      },
      atMs,
      hand,
      transaction,
    )
    recorder.change(
      'lettings.tenancy',
      id,
      { balance: money(Number(row['balance']) + amount) },
      atMs,
      hand,
      transaction,
    )
  }

  #workday(date: string): void {
    for (const officer of this.#stage.officers) this.#joinOrLeave(officer, date)
    for (let n = this.#about(this.#pace.orders); n > 0; n--) this.#raiseOrder(date)
    for (let n = this.#about(this.#pace.edits); n > 0; n--) this.#edit(date)
    for (let n = this.#about(this.#pace.certificates); n > 0; n--) this.#certificate(date)
    for (let n = this.#about(this.#pace.moves); n > 0; n--) this.#move(date)
    if (weekday(date) === 5)
      for (let n = this.#about(6 * (this.#stage.size.contractors / 240)); n > 0; n--) this.#contractorWork(date)
    if (weekday(date) === 4) this.#payContractors(date)
  }

  /** A few emergencies on Saturday mornings; Sundays are quiet. */
  #saturday(date: string): void {
    for (let n = this.#about(this.#pace.orders * 0.12); n > 0; n--) this.#raiseOrder(date)
  }

  #joinOrLeave(officer: Officer, date: string): void {
    const { recorder, officers, from, chance } = this.#stage
    const keeper = officers[5]!
    if (officer.joinedOn >= from && workdayFrom(officer.joinedOn) === date)
      this.plan(date, 9.2, (atMs) =>
        recorder.create('reference.officer', officerRow(officer), atMs, officerHand(keeper, 'new colleague')),
      )
    if (officer.leftOn === null || workdayFrom(officer.leftOn) !== date) return
    this.plan(date, 16.1, (atMs) =>
      recorder.change(
        'reference.officer',
        officer.id,
        { left_on: officer.leftOn },
        atMs,
        officerHand(keeper, 'leaving'),
      ),
    )
    // The leaver's tenancies go to colleagues over the next days.
    const theirs = [...recorder.table('lettings.tenancy').values()].filter(
      (row) => row['officer_id'] === String(officer.id),
    )
    const heirs = this.#at(officer.team, date).filter((one) => one.id !== officer.id)
    for (const row of theirs) {
      const heir = chance.pick(heirs)
      const on = workdayFrom(addDays(date, chance.whole(1, 9)))
      this.plan(on, this.#hour(heir), (atMs) =>
        recorder.change(
          'lettings.tenancy',
          row['id']!,
          { officer_id: String(heir.id) },
          atMs,
          officerHand(this.#onDuty(heir, on), `taken over from ${officer.name}`),
        ),
      )
    }
  }

  #raiseOrder(date: string): void {
    const { chance, recorder, size } = this.#stage
    const staff = this.#at('repairs', date)
    const raiser = chance.pick(staff)
    const index = this.#next.order++
    const id = String(firstOrder + index)
    const home = String(firstHome + chance.whole(0, size.homes - 1))
    const started = this.#hour(raiser)
    const contractor = String(firstContractor + chance.whole(0, size.contractors - 1))
    this.plan(date, started, (atMs) => {
      const transaction = recorder.begin()
      recorder.create(
        'repairs.repair_order',
        orderRow(chance, id, home, date, raiser.id),
        atMs,
        officerHand(raiser),
        transaction,
      )
      for (const line of lineRows(chance, id, index))
        recorder.create('repairs.repair_line', line, atMs, officerHand(raiser), transaction)
    })
    const approver = chance.pick(staff.filter((one) => one.id !== raiser.id)) ?? raiser
    const approvedOn = workdayFrom(addDays(date, chance.whole(0, 2)))
    this.plan(approvedOn, approvedOn === date ? 17.6 : this.#hour(approver), (atMs) => {
      recorder.change(
        'repairs.repair_order',
        id,
        {
          approved_by: String(this.#onDuty(approver, approvedOn).id),
          approved_limit: '150.00',
          contractor_id: contractor,
          status: 'approved',
        },
        atMs,
        officerHand(this.#onDuty(approver, approvedOn)),
      )
    })
    const begun = workdayFrom(addDays(approvedOn, chance.whole(1, 6)))
    const linked = chance.odds(0.55)
    const worker = (date: string) => (linked ? accountHand(accounts.link) : officerHand(this.#onDuty(approver, date)))
    this.plan(begun, 8 + chance.next() * 8, (atMs) =>
      recorder.change('repairs.repair_order', id, { status: 'in progress' }, atMs, worker(begun)),
    )
    const done = workdayFrom(addDays(begun, chance.whole(0, 9)))
    if (chance.odds(0.12))
      this.plan(begun, 16.4, (atMs) =>
        recorder.change(
          'repairs.repair_order',
          id,
          { promised_on: addDays(done, 1) },
          atMs,
          officerHand(this.#onDuty(approver, begun), 'tenant asked'),
        ),
      )
    this.plan(done, 17 + chance.next() * 0.8, (atMs) =>
      recorder.change('repairs.repair_order', id, { status: 'completed', completed_on: done }, atMs, worker(done)),
    )
  }

  #certificate(date: string): void {
    const { chance, recorder, size } = this.#stage
    const engineer = chance.pick(this.#at('safety', date))
    const inspected = addDays(date, -chance.pick([0, 0, 0, 1, 1, 2]))
    const row = certificateRow(
      chance,
      this.nextCertificate(),
      String(firstHome + chance.whole(0, size.homes - 1)),
      inspected,
      date,
      engineer.name,
    )
    this.plan(date, this.#hour(engineer), (atMs) =>
      recorder.create('safety.certificate', row, atMs, officerHand(engineer)),
    )
  }

  /** The small changes officers make all day: on a tenancy mostly, on the tenant or the home now and then. */
  #edit(date: string): void {
    const { chance, recorder } = this.#stage
    const officer = chance.pick(this.#at('lettings', date))
    const tenancyId = this.#tenancyId()
    const reason = chance.odds(0.35) ? chance.pick(reviewReasons) : undefined
    this.plan(date, this.#hour(officer), (atMs) => {
      const tenancy = recorder.table('lettings.tenancy').get(JSON.stringify([tenancyId]))
      if (!tenancy) return
      const kind = chance.next()
      const hand = officerHand(officer, reason)
      if (kind < 0.62) recorder.change('lettings.tenancy', tenancyId, this.#tenancyPatch(tenancy, date), atMs, hand)
      else if (kind < 0.86)
        recorder.change('lettings.tenant', tenancy['tenant_id']!, this.#tenantPatch(tenancy['tenant_id']!), atMs, hand)
      else recorder.change('lettings.home', tenancy['home_id']!, this.#homePatch(), atMs, hand)
    })
  }

  #tenancyPatch(row: Row, date: string): Row {
    const { chance } = this.#stage
    const kind = chance.next()
    if (kind < 0.4)
      return {
        review_date: addDays(date, chance.whole(90, 400)),
        notes: chance.odds(0.5) ? notes(chance) : row['notes']!,
      }
    if (kind < 0.7)
      return {
        notes: [
          row['notes'],
          chance.pick(['Called back.', 'Letter sent.', 'Visit agreed.', 'All well at the visit.', 'Form returned.']),
        ]
          .filter(Boolean)
          .join(' ')
          .slice(-400),
      }
    if (kind < 0.8) return { service_charge: money(8 + chance.whole(0, 180) / 20) }
    if (kind < 0.84) return { deposit: chance.pick(['250.00', '425.00', '500.00']) }
    const held = arrayMembers(row['support_services']!) as string[]
    const added = chance.pick(services)
    return {
      support_services: arrayLiteral(
        held.includes(added) && held.length > 1 ? held.filter((one) => one !== added) : [...new Set([...held, added])],
      ),
    }
  }

  #tenantPatch(id: string): Row {
    const { chance } = this.#stage
    return chance.odds(0.7)
      ? { phone: `01632 960${String(chance.whole(0, 999)).padStart(3, '0')}` }
      : { email: `tenant.${id}.${chance.whole(10, 99)}@post.example` }
  }

  #homePatch(): Row {
    const { chance } = this.#stage
    const kind = chance.next()
    if (kind < 0.5) return { amenities: arrayLiteral(chance.some(amenities, chance.whole(1, 4))) }
    if (kind < 0.8) return { epc_rating: chance.pick(['B', 'C', 'D']) }
    return { key_safe_code: String(chance.whole(1000, 9999)) }
  }

  /** One household leaves a home; a few weeks later another moves in. */
  #move(date: string): void {
    const { chance, recorder, size } = this.#stage
    const officer = chance.pick(this.#at('lettings', date))
    const id = this.#tenancyId()
    if (this.#moved.has(id)) return
    this.#moved.add(id)
    const ends = workdayFrom(addDays(date, 28))
    this.plan(date, this.#hour(officer), (atMs) =>
      recorder.change(
        'lettings.tenancy',
        id,
        { status: 'notice given', end_on: ends },
        atMs,
        officerHand(officer, 'notice received'),
      ),
    )
    this.plan(ends, 15.5, (atMs) =>
      recorder.change(
        'lettings.tenancy',
        id,
        { status: 'ended' },
        atMs,
        officerHand(this.#onDuty(officer, ends), 'keys returned'),
      ),
    )
    const starts = workdayFrom(addDays(ends, chance.whole(5, 25)))
    if (starts >= this.#stage.until) return
    const [tenancyId, tenantId] = [this.#next.tenancy++, this.#next.tenant++]
    this.plan(starts, 10.5 + chance.next(), (atMs) => {
      const row = recorder.table('lettings.tenancy').get(JSON.stringify([id]))
      const homeId = row?.['home_id'] ?? String(firstHome + size.homes - 1)
      const home = recorder.row('lettings.home', homeId)
      const [hand, transaction] = [officerHand(this.#onDuty(officer, starts), 'new letting'), recorder.begin()]
      const tenant = tenantRow(chance, tenantId, date)
      recorder.create('lettings.tenant', tenant, atMs, hand, transaction)
      recorder.create(
        'lettings.tenancy',
        tenancyRow(
          chance,
          tenancyId,
          homeId,
          tenant['id']!,
          home['rent_band']!,
          starts,
          officer.id,
          this.figure(home['rent_band']!),
        ),
        atMs,
        hand,
        transaction,
      )
      if (chance.odds(0.4))
        for (const member of memberRows(chance, String(tenancyId), starts))
          recorder.create('lettings.household_member', member, atMs, hand, transaction)
    })
  }

  #contractorWork(date: string): void {
    const { chance, recorder, size } = this.#stage
    const kind = chance.next()
    const ofMoney = kind >= 0.8 && kind < 0.85
    // Bank accounts are the work of others than the one of whom the history has something to tell.
    const officer = chance.pick(
      this.#at('contractors', date).filter((one) => !ofMoney || one.name !== namedOfficers.oona.name),
    )
    const id = String(firstContractor + chance.whole(1, size.contractors - 1))
    const change = (patch: Row, reason: string) =>
      this.plan(date, 9 + chance.next() * 6, (atMs) =>
        recorder.change('contractors.contractor', id, patch, atMs, officerHand(officer, reason)),
      )
    if (kind < 0.6) change({ insurance_expiry: addDays(date, chance.whole(300, 380)) }, 'certificate received')
    else if (kind < 0.8)
      change({ approved_trades: arrayLiteral(chance.some(trades, chance.whole(1, 5))) }, 'panel decision')
    else if (ofMoney) change({ bank_account: bankAccount(chance) }, 'signed letter on file')
    else
      this.plan(date, 11 + chance.next() * 4, (atMs) =>
        recorder.change(
          'contractors.contract_rate',
          Number(id) * 10 + chance.whole(0, 1),
          { rate: money(40 + chance.whole(0, 2000) / 20) },
          atMs,
          officerHand(officer, 'new schedule'),
        ),
      )
  }

  #payContractors(date: string): void {
    const { chance, size } = this.#stage
    for (let n = this.#about(size.contractors / 12); n > 0; n--) {
      const id = String(firstContractor + chance.whole(0, size.contractors - 1))
      this.plan(date, 21 + n / 3600, (atMs) => this.pay(id, date, atMs))
    }
  }

  /** Pays a contractor to the account that stands in the record at that moment. */
  pay(id: string, date: string, atMs: number): void {
    const { chance, recorder } = this.#stage
    const contractor = recorder.row('contractors.contractor', id)
    recorder.create(
      'contractors.payment',
      {
        id: this.nextPayment(),
        contractor_id: id,
        paid_on: date,
        amount: money(chance.whole(8000, 400_000) / 100),
        to_account: contractor['bank_account']!,
      },
      atMs,
      accountHand(accounts.payRun, `payments to contractors ${date}`),
    )
  }

  /** Every April the bands rise, and with them the rents, in one night. The last April is planted: see incidents. */
  #uplift(date: string): void {
    const { chance, recorder, until, officers } = this.#stage
    const day = upliftDay(date.slice(0, 4))
    if (date !== day || day === lastUplift(until)) return
    const keeper = officers[5]!
    for (const band of bands) {
      const figure = Math.round(this.figure(band) * 1.034 * 20) / 20
      this.plan(date, 10, (atMs) => {
        this.setFigure(band, figure)
        recorder.change(
          'reference.rent_band',
          band,
          { weekly_figure: money(figure), in_force_from: date },
          atMs,
          officerHand(keeper, 'board decision'),
        )
      })
    }
    this.plan(date, 17.5, (atMs) => {
      const transaction = recorder.begin()
      for (const row of recorder.table('lettings.tenancy').values()) {
        if (row['status'] !== 'active') continue
        const band = recorder.row('lettings.home', row['home_id']!)['rent_band']!
        recorder.change(
          'lettings.tenancy',
          row['id']!,
          { weekly_rent: rentFor(chance, this.figure(band)) },
          atMs,
          accountHand(accounts.uplift, `rent uplift ${date.slice(0, 4)}`),
          transaction,
        )
      }
    })
  }
}

/** The first Thursday of April. */
export function upliftDay(year: string): string {
  return onOrAfter(`${year}-04-01`, 4)
}

/** The uplift that went wrong: the last one at least thirty days before the end of the history. */
export function lastUplift(until: string): string {
  const thisYear = upliftDay(until.slice(0, 4))
  return daysBetween(thisYear, until) >= 30 ? thisYear : upliftDay(String(Number(until.slice(0, 4)) - 1))
}
