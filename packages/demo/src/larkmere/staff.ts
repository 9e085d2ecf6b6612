import { addDays } from '@spoor/core'
import type { Chance } from './chance.ts'
import { firstNames, lastNames, streets } from './words.ts'

export type Team = 'lettings' | 'repairs' | 'safety' | 'contractors' | 'finance'

export interface Officer {
  id: number
  name: string
  login: string
  team: Team
  patch: string
  /** Usual hours of Larkmere's clock. */
  from: number
  until: number
  joinedOn: string
  leftOn: string | null
}

/** Whatever changes records without being a person, and the one who acts for another. */
export interface Account {
  name: string
  kind: 'import' | 'job' | 'integration' | 'delegate'
  login: DatabaseLogin
  channel: string
}

/** Database logins of Larkmere, one a channel; the last is known to nobody. */
export const databaseLogins = [
  'desk_app',
  'import_svc',
  'job_runner',
  'contractor_link',
  'supplier_support',
  'maint_ro',
] as const
export type DatabaseLogin = (typeof databaseLogins)[number]

/** Logins that Larkmere has told Spoor may say who acts. */
export const declaringLogins: readonly DatabaseLogin[] = [
  'desk_app',
  'import_svc',
  'job_runner',
  'contractor_link',
  'supplier_support',
]

export const accounts = {
  payments: { name: 'Payments import', kind: 'import', login: 'import_svc', channel: 'import' },
  services: { name: 'Services import', kind: 'import', login: 'import_svc', channel: 'import' },
  uplift: { name: 'Rent uplift', kind: 'job', login: 'job_runner', channel: 'job' },
  bandCheck: { name: 'Band check', kind: 'job', login: 'job_runner', channel: 'job' },
  payRun: { name: 'Payment run', kind: 'job', login: 'job_runner', channel: 'job' },
  link: { name: 'Contractor link', kind: 'integration', login: 'contractor_link', channel: 'API' },
  supplier: { name: 'Corvane Support', kind: 'delegate', login: 'supplier_support', channel: 'screen' },
} as const satisfies Record<string, Account>

/** Those whom the planted incidents name; their numbers are their places here, from 1. */
export const namedOfficers = {
  oona: { name: 'Oona Marchetti', team: 'contractors' },
  tariq: { name: 'Tariq Lindqvist', team: 'repairs' },
  ishbel: { name: 'Ishbel Coombe', team: 'lettings' },
  ansel: { name: 'Ansel Duarte', team: 'lettings' },
  piet: { name: 'Piet Okonjo', team: 'safety' },
  ruth: { name: 'Ruth Tregarthen', team: 'finance' },
} as const satisfies Record<string, { name: string; team: Team }>

const teams: readonly Team[] = [
  'lettings',
  'lettings',
  'lettings',
  'repairs',
  'repairs',
  'safety',
  'contractors',
  'finance',
]
const officerCount = 28

/** Everybody who worked at Larkmere in the spell; some joined in it and some left, and others took their work over. */
export function hire(chance: Chance, from: string, days: number): Officer[] {
  const names = new Set<string>(Object.values(namedOfficers).map((officer) => officer.name))
  const officer = (name: string, team: Team, at: number, joinedOn: string, leftOn: string | null): Officer => ({
    id: at + 1,
    name,
    login: name.toLowerCase().replace(/[^a-z]+/g, '.'),
    team,
    patch: streets[at % streets.length]!,
    from: chance.pick([7.75, 8.25, 8.5, 9]),
    until: chance.pick([16.5, 17, 17.5]),
    joinedOn,
    leftOn,
  })
  const officers = Object.values(namedOfficers).map(({ name, team }, at) =>
    officer(name, team, at, addDays(from, -400 - at * 311), null),
  )
  while (officers.length < officerCount) {
    const name = `${chance.pick(firstNames)} ${chance.pick(lastNames)}`
    if (names.has(name)) continue
    names.add(name)
    const at = officers.length
    const joins = at % 5 === 0
    const leaves = at % 7 === 0
    const joinedOn = joins
      ? addDays(from, chance.whole(60, Math.floor(days * 0.6)))
      : addDays(from, -chance.whole(100, 3000))
    const leftOn = leaves ? addDays(from, chance.whole(Math.floor(days * 0.65), Math.floor(days * 0.85))) : null
    officers.push(officer(name, teams[at % teams.length]!, at, joinedOn, leftOn))
  }
  return officers
}

/** The staff list as the personnel office would send it: one line a person or account. */
export function staffCsv(officers: readonly Officer[]): string {
  const people = officers.map((o) => [o.name, 'person', o.login, o.team, o.patch, o.joinedOn, o.leftOn ?? ''])
  const others = Object.values(accounts).map((a) => [
    a.name,
    a.kind,
    a.login,
    a.kind === 'delegate' ? 'software supplier' : 'systems',
    '',
    '',
    '',
  ])
  return (
    [['name', 'kind', 'login', 'unit', 'patch', 'joined', 'left'], ...people, ...others]
      .map((line) => line.map((cell) => (/[",\n]/.test(cell) ? `"${cell.replace(/"/g, '""')}"` : cell)).join(','))
      .join('\n') + '\n'
  )
}
