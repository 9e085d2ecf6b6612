import { Router } from 'express'
import { routes } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { bind, type SignedIn } from '../http/bind.ts'
import { listDirectory, readStaffCsv, takeStaffList } from './directory.ts'
import { requestedScopes } from '../scope/request.ts'
import { countEvents, listEvents, recorded, recordEvent } from '../ledger/events.ts'
import { listIdentities, listUnmapped, removeIdentity, setIdentity } from './identities.ts'
import { readLdap } from './ldap.ts'

/** Who makes saves: the directory, and what logins and said names are mapped to. */
export function directoryRouter({ db }: { db: Database }): Router {
  const router = Router()

  bind(router, routes.readDirectory, async () => {
    const [entries, identities, unmapped] = await Promise.all([listDirectory(db), listIdentities(db), listUnmapped(db)])
    const row = await db('spoor.setting').where({ name: 'ldap' }).first<{ value: { url: string } } | undefined>('value')
    return { entries, identities, unmapped, ldapUrl: row?.value.url ?? null }
  })

  const event = (person: SignedIn, words: string) => ({ kind: 'directory', personId: person.id, words }) as const

  bind(router, routes.loadDirectoryCsv, async ({ body, person }) => {
    const take = () => takeStaffList(db, readStaffCsv(body.csv), body)
    return await (body.dryRun ? take() : recorded(db, event(person, 'read the staff list from a file'), take))
  })

  bind(router, routes.loadDirectoryLdap, async ({ body, person }) => {
    const take = async () => {
      const { listed, refused } = await readLdap(body)
      const outcome = await takeStaffList(db, listed, body)
      return { ...outcome, refused }
    }
    if (body.dryRun) return await take()
    const outcome = await recorded(db, event(person, `read the staff list from ${body.url}`), take)
    await db('spoor.setting')
      .insert({ name: 'ldap', value: JSON.stringify({ url: body.url }) })
      .onConflict('name')
      .merge()
    return outcome
  })

  bind(router, routes.setIdentity, ({ body, person }) =>
    recorded(
      db,
      { ...event(person, `said who the ${body.by} ${body.text.slice(0, 200)} is`), sourceId: body.sourceId },
      () => setIdentity(db, body),
    ),
  )

  bind(router, routes.removeIdentity, async ({ params, person }) => {
    const words = await removeIdentity(db, params.identityId)
    await recordEvent(db, event(person, `took a mapping away: ${words}`))
    return params
  })

  bind(router, routes.listEvents, async ({ query: { scope, before, ...filter }, person }) =>
    listEvents(db, { ...filter, scopes: await requestedScopes(db, scope, person) }, before),
  )
  bind(router, routes.countEvents, async ({ query: { scope, ...filter }, person }) => ({
    counts: await countEvents(db, { ...filter, scopes: await requestedScopes(db, scope, person) }),
  }))

  return router
}
