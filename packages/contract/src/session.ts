import * as v from 'valibot'
import { roles, type Permission } from './permission.ts'
import { GivenInstant } from './common.ts'
import { route } from './route.ts'

export const Person = v.object({
  id: v.number(),
  login: v.string(),
  name: v.string(),
  role: v.picklist(roles),
  /** Where their last visit ended, or where they said they had looked until; null on a first visit. */
  lookedAt: v.nullable(v.string()),
  /** In which times are told to them; null: that of their browser. */
  zone: v.nullable(v.string()),
  permissions: v.array(v.custom<Permission>((input) => typeof input === 'string')),
})
export type Person = v.InferOutput<typeof Person>

export const Session = v.object({
  person: v.nullable(Person),
  /** To be sent back as `x-spoor-token` with every request that changes something. */
  token: v.string(),
})
export type Session = v.InferOutput<typeof Session>

const Password = v.pipe(v.string(), v.maxLength(1000))
const SignIn = v.strictObject({
  login: v.pipe(v.string(), v.maxLength(200)),
  password: Password,
})

export const sessionRoutes = {
  readFirst: route({
    method: 'GET',
    path: '/session/first',
    needs: 'nobody',
    summary: 'Whether nobody can sign in yet',
    response: v.object({ wanted: v.boolean() }),
  }),
  makeFirst: route({
    method: 'POST',
    path: '/session/first',
    needs: 'nobody',
    summary: 'Make the first administrator, by the link that the server printed when it started',
    body: v.strictObject({
      key: v.pipe(v.string(), v.maxLength(200)),
      login: v.pipe(v.string(), v.trim(), v.minLength(1, 'Say the name to sign in with.'), v.maxLength(200)),
      name: v.pipe(v.string(), v.trim(), v.minLength(1, 'Say who you are.'), v.maxLength(300)),
      password: Password,
    }),
    response: v.object({ made: v.literal(true) }),
  }),
  readSession: route({
    method: 'GET',
    path: '/session',
    needs: 'nobody',
    summary: 'Who is signed in',
    response: Session,
  }),
  signIn: route({
    method: 'POST',
    path: '/session',
    needs: 'nobody',
    summary: 'Sign in',
    body: SignIn,
    response: Session,
  }),
  lookedUntil: route({
    method: 'PUT',
    path: '/session/looked',
    needs: 'session',
    summary: 'Say that everything until a moment has been looked at',
    body: v.strictObject({ at: GivenInstant }),
    response: Session,
  }),
  chooseZone: route({
    method: 'PUT',
    path: '/session/zone',
    needs: 'session',
    summary: 'Choose the zone in which times are told; null is that of the browser',
    body: v.strictObject({ zone: v.nullable(v.pipe(v.string(), v.maxLength(100))) }),
    response: Session,
  }),
  changeOwnPassword: route({
    method: 'PUT',
    path: '/session/password',
    needs: 'session',
    summary: 'Change one’s own password, which ends one’s other sessions',
    body: v.strictObject({ current: Password, password: Password }),
    response: Session,
  }),
  signOut: route({ method: 'DELETE', path: '/session', needs: 'session', summary: 'Sign out', response: Session }),
}
