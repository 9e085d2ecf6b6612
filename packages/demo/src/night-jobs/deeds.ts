import type { ActorContext } from '@spoor/client'
import { addDays, arrayLiteral } from '@spoor/core'
import type { Chance } from '../larkmere/chance.ts'
import { accounts, type Account, type DatabaseLogin } from '../larkmere/staff.ts'
import { noteSentences, reviewReasons, services } from '../larkmere/words.ts'

/** One thing somebody does: a statement by a login, with what is said about it, if anything. */
export interface Deed {
  login: DatabaseLogin
  context: ActorContext | null
  statement: string
  values: unknown[]
}

/** What there is to work on. */
export interface Known {
  homes: readonly number[]
  tenancies: readonly number[]
  orders: readonly number[]
  officers: readonly string[]
}

/** The next deed, by chance alone: officers mostly, then the link, imports and jobs; a bare hand very rarely. */
export function nextDeed(chance: Chance, known: Known, today: string): Deed {
  const kind = chance.next()
  if (kind < 0.6) return atTheDesk(chance, known, today)
  if (kind < 0.78 && known.orders.length > 0) return throughTheLink(chance, known)
  if (kind < 0.9) return byImport(chance, known, today)
  if (kind < 0.975) return byJob(chance, known)
  if (kind < 0.997) return bySupport(chance, known)
  return inATerminal(chance, known)
}

function as(account: Account, more: Partial<ActorContext> = {}): ActorContext {
  return { actor: account.name, kind: account.kind, channel: account.channel, ...more }
}

function atTheDesk(chance: Chance, { officers, tenancies }: Known, today: string): Deed {
  const reason = chance.odds(0.4) ? { reason: chance.pick(reviewReasons) } : {}
  const context: ActorContext = { actor: chance.pick(officers), kind: 'person', channel: 'screen', ...reason }
  const ofTenancy = (column: string) => `(select ${column} from lettings.tenancy where id = $1)`
  const [statement, value] = chance.pick([
    ['update lettings.tenancy set review_date = $2 where id = $1', addDays(today, chance.whole(60, 400))],
    ['update lettings.tenancy set notes = $2 where id = $1', chance.some(noteSentences, chance.whole(1, 3)).join(' ')],
    ['update lettings.tenancy set service_charge = $2 where id = $1', (8 + chance.whole(0, 180) / 20).toFixed(2)],
    [
      `update lettings.tenant set phone = $2 where id = ${ofTenancy('tenant_id')}`,
      `01632 960${String(chance.whole(0, 999)).padStart(3, '0')}`,
    ],
    [`update lettings.home set epc_rating = $2 where id = ${ofTenancy('home_id')}`, chance.pick(['B', 'C', 'D'])],
  ] as const)
  return { login: 'desk_app', context, statement, values: [chance.pick(tenancies), value] }
}

function throughTheLink(chance: Chance, { orders }: Known): Deed {
  const statement = 'update repairs.repair_order set status = $2, promised_on = promised_on + 1 where id = $1'
  return {
    login: 'contractor_link',
    context: as(accounts.link),
    statement,
    values: [chance.pick(orders), chance.pick(['approved', 'in progress'])],
  }
}

function byImport(chance: Chance, { tenancies }: Known, today: string): Deed {
  const context = as(accounts.services, { run: `services ${today}` })
  const held = arrayLiteral(chance.some(services, chance.whole(2, 4)))
  return {
    login: 'import_svc',
    context,
    statement: 'update lettings.tenancy set support_services = $2 where id = $1',
    values: [chance.pick(tenancies), held],
  }
}

function byJob(chance: Chance, { tenancies }: Known): Deed {
  const statement = 'update lettings.tenancy set balance = balance + $2::numeric where id = $1'
  const amount = (chance.whole(-20_000, 20_000) / 100).toFixed(2)
  return {
    login: 'job_runner',
    context: as(accounts.bandCheck, { run: 'balances' }),
    statement,
    values: [chance.pick(tenancies), amount],
  }
}

function bySupport(chance: Chance, { homes, officers }: Known): Deed {
  const context = as(accounts.supplier, { onBehalfOf: chance.pick(officers) })
  return {
    login: 'supplier_support',
    context,
    statement: 'update lettings.home set key_safe_code = $2 where id = $1',
    values: [chance.pick(homes), String(chance.whole(1000, 9999))],
  }
}

function inATerminal(chance: Chance, { tenancies }: Known): Deed {
  return {
    login: 'maint_ro',
    context: null,
    statement: 'update lettings.tenancy set deposit = deposit + 0.01 where id = $1',
    values: [chance.pick(tenancies)],
  }
}
