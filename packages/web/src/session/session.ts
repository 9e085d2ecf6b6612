import { routes, sightOf, type Permission, type Session } from '@spoor/contract'
import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { call, setToken } from '../api/client.ts'
import { tellTimesIn } from '../value/time.ts'

/** Who is signed in, and what they may do. */
export const useSession = defineStore('session', () => {
  const person = ref<Session['person']>(null)
  let loaded: Promise<void> | undefined

  function take(session: Session): void {
    person.value = session.person
    tellTimesIn(session.person?.zone ?? null)
    setToken(session.token)
  }

  return {
    person: computed(() => person.value),
    /** Whether they see the whole trail, and so what records hold and held. */
    seesAll: computed(() => person.value !== null && sightOf(person.value.role) === 'everything'),
    may: (permission: Permission) => person.value?.permissions.includes(permission) ?? false,
    load: () => (loaded ??= call(routes.readSession).then(take)),
    async signIn(login: string, password: string) {
      take(await call(routes.signIn, { body: { login, password } }))
    },
    async changePassword(current: string, password: string) {
      take(await call(routes.changeOwnPassword, { body: { current, password } }))
    },
    /** Every time on the page is told anew, so the page is loaded anew. */
    async chooseZone(zone: string | null) {
      take(await call(routes.chooseZone, { body: { zone } }))
      location.reload()
    },
    async signOut() {
      take(await call(routes.signOut))
    },
    /** Everything until this moment has been looked at. */
    async lookedUntil(at: string) {
      take(await call(routes.lookedUntil, { body: { at } }))
    },
    /** The server says that the session is over: ask it for a new one. */
    async lapse() {
      person.value = null
      take(await call(routes.readSession))
    },
  }
})
