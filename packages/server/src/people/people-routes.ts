import { Router } from 'express'
import { roleNames, routes, sightOf } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { recorded } from '../ledger/events.ts'
import type { People, PersonSettings } from './people.ts'
import type { SignInRuleBook } from './sign-in-rules.ts'

export interface PeopleDeps {
  db: Database
  people: People
  rules: SignInRuleBook
}

/** Who may sign in to Spoor, as what, and by which rules. */
export function peopleRouter({ db, people, rules }: PeopleDeps): Router {
  const router = Router()
  const event = (person: SignedIn, words: string) => ({ kind: 'person', personId: person.id, words }) as const
  const reachWords = ({ role, reachFrom, reachUntil }: PersonSettings) =>
    sightOf(role) === 'scope' ? ` from ${reachFrom ?? 'the beginning'} until ${reachUntil ?? 'further notice'}` : ''

  bind(router, routes.listPeople, async () => ({ people: await people.list(), rules: await rules.read() }))

  bind(router, routes.addPerson, async ({ body, person }) => {
    const { login, password, ...settings } = body
    const words = `gave ${settings.name} access as ${roleNames[settings.role].toLowerCase()}${reachWords(settings)}`
    return await recorded(db, event(person, words), async () => {
      await rules.demandPassword(password)
      return await people.create(login, password, settings)
    })
  })

  // Before what would take “rules” for somebody’s number.
  bind(router, routes.changeSignInRules, ({ body, person }) => {
    const words = `changed the sign-in rules: out after ${body.idleMinutes} minutes or ${body.mostHours} hours, passwords of ${body.leastPasswordLength} characters, ${body.triesBeforeWait} tries`
    return recorded(db, event(person, words), () => rules.change(body))
  })

  bind(router, routes.changePerson, async ({ params, body, person }) => {
    const { password, disabled, ...settings } = body
    const acts = [
      disabled ? 'ended the access of' : 'changed the access of',
      `${settings.name}: ${roleNames[settings.role].toLowerCase()}${reachWords(settings)}`,
      password === undefined ? '' : ', with a new password',
    ]
    return await recorded(db, event(person, `${acts[0]} ${acts[1]}${acts[2]}`), async () => {
      if (password !== undefined) await rules.demandPassword(password)
      return await people.change(params.personId, settings, { password, disabled, by: person.id })
    })
  })

  return router
}
