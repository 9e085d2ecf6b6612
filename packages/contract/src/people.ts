import * as v from 'valibot'
import { Instant, IntParam, Kind, ScopeText, IdNumber, GivenDay } from './common.ts'
import { roles } from './permission.ts'
import { route } from './route.ts'

const Words = v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200))
const Password = v.pipe(v.string(), v.maxLength(1000))

/** Somebody or something known to make saves. */
export const DirectoryEntry = v.object({
  actorId: v.number(),
  name: v.string(),
  kind: Kind,
  login: v.nullable(v.string()),
  unit: v.nullable(v.string()),
  joinedOn: v.nullable(v.string()),
  leftOn: v.nullable(v.string()),
  inDirectory: v.boolean(),
  formerNames: v.array(v.string()),
})
export type DirectoryEntry = v.InferOutput<typeof DirectoryEntry>

/** By what a save is known to be somebody's: the database login, or a name that an application says. */
export const Identity = v.object({
  id: v.number(),
  sourceId: v.number(),
  by: v.picklist(['login', 'name']),
  text: v.string(),
  actorId: v.number(),
  /** The person a delegate acts for. */
  forActorId: v.nullable(v.number()),
  /** First and last day; null is open. */
  fromOn: v.nullable(v.string()),
  untilOn: v.nullable(v.string()),
})
export type Identity = v.InferOutput<typeof Identity>

/** An actor that nobody knows who it is, with what it did. */
export const Unmapped = v.object({
  actorId: v.number(),
  sourceId: v.number(),
  by: v.picklist(['login', 'name']),
  text: v.string(),
  kind: Kind,
  saves: v.number(),
  firstAt: Instant,
  lastAt: Instant,
})
export type Unmapped = v.InferOutput<typeof Unmapped>

export const DirectoryChange = v.object({
  change: v.picklist(['added', 'renamed', 'changed', 'left', 'missing']),
  name: v.string(),
  words: v.string(),
})
/** What reading a staff list changed, or would change. */
export const DirectoryOutcome = v.object({
  people: v.number(),
  changes: v.array(DirectoryChange),
  /** Lines that could not be used, with their place. */
  refused: v.array(v.string()),
})
export type DirectoryOutcome = v.InferOutput<typeof DirectoryOutcome>

export const SpoorPerson = v.object({
  id: v.number(),
  login: v.string(),
  name: v.string(),
  role: v.picklist(roles),
  /** The actor whose saves are this person's own. */
  actorId: v.nullable(v.number()),
  /** For an auditor: the scope they see, as the parameters of a link, and the days on which they may. */
  reach: v.nullable(v.string()),
  reachFrom: v.nullable(v.string()),
  reachUntil: v.nullable(v.string()),
  disabledAt: v.nullable(Instant),
  lastSeenAt: v.nullable(Instant),
})
export type SpoorPerson = v.InferOutput<typeof SpoorPerson>

const personEntries = {
  name: Words,
  role: v.picklist(roles),
  actorId: v.optional(v.nullable(IdNumber), null),
  reach: v.optional(v.nullable(v.pipe(v.string(), v.maxLength(20_000))), null),
  reachFrom: v.optional(v.nullable(GivenDay), null),
  reachUntil: v.optional(v.nullable(GivenDay), null),
}

export const SignInRules = v.strictObject({
  /** A session ends after so many minutes without a request. */
  idleMinutes: v.pipe(v.number(), v.integer(), v.minValue(5), v.maxValue(1440)),
  /** A session ends after so many hours, whatever is done in it. */
  mostHours: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(168)),
  leastPasswordLength: v.pipe(v.number(), v.integer(), v.minValue(12), v.maxValue(128)),
  /** Failed sign-ins of one name from one address within five minutes before it has to wait. */
  triesBeforeWait: v.pipe(v.number(), v.integer(), v.minValue(3), v.maxValue(50)),
})
export type SignInRules = v.InferOutput<typeof SignInRules>

/** Kinds of what is done in Spoor itself, as the glossary explains them. */
export const eventKinds = [
  'sign-in',
  'tracking',
  'source',
  'directory',
  'person',
  'export',
  'reveal',
  'correction',
  'review',
  'noticing',
  'custody',
  'erasure',
  'watch',
] as const
export type EventKind = (typeof eventKinds)[number]

/** Something done in Spoor itself, with its outcome. */
export const SpoorEvent = v.object({
  id: v.number(),
  at: Instant,
  kind: v.string(),
  outcome: v.picklist(['done', 'refused']),
  by: v.nullable(v.string()),
  words: v.string(),
  address: v.nullable(v.string()),
})
export type SpoorEvent = v.InferOutput<typeof SpoorEvent>

/** How often somebody did one kind of thing. */
export const EventCount = v.object({
  /** Null for Spoor itself, and for whoever was not known, as at a refused sign-in. */
  personId: v.nullable(v.number()),
  by: v.nullable(v.string()),
  kind: v.string(),
  events: v.number(),
  refused: v.number(),
})
export type EventCount = v.InferOutput<typeof EventCount>

/** Of the scope, its time and its people count. */
const eventFilter = {
  scope: ScopeText,
  kind: v.optional(v.pipe(v.string(), v.maxLength(200))),
  /** A person's number; 0 for nobody's. */
  by: v.optional(IntParam),
  outcome: v.optional(v.picklist(['done', 'refused'])),
  words: v.optional(v.pipe(v.string(), v.maxLength(200))),
}

const personParams = v.object({ personId: IntParam })

export const peopleRoutes = {
  readDirectory: route({
    method: 'GET',
    path: '/directory',
    needs: 'directory.read',
    summary: 'Who makes saves, by what they are known, and who is not known',
    response: v.object({
      entries: v.array(DirectoryEntry),
      identities: v.array(Identity),
      unmapped: v.array(Unmapped),
      ldapUrl: v.nullable(v.string()),
    }),
  }),
  loadDirectoryCsv: route({
    method: 'POST',
    path: '/directory/csv',
    needs: 'directory.edit',
    summary: 'Read a staff list as CSV; with `dryRun` only say what it would change',
    body: v.strictObject({ csv: v.pipe(v.string(), v.maxLength(3_000_000)), dryRun: v.boolean() }),
    response: DirectoryOutcome,
  }),
  loadDirectoryLdap: route({
    method: 'POST',
    path: '/directory/ldap',
    needs: 'directory.edit',
    summary: 'Read the staff list from an LDAP directory; with `dryRun` only say what it would change',
    body: v.strictObject({
      url: v.pipe(v.string(), v.maxLength(500), v.regex(/^ldaps?:\/\//, 'The address begins with ldap:// or ldaps://')),
      bindName: v.pipe(v.string(), v.maxLength(500)),
      password: Password,
      base: Words,
      filter: v.optional(Words, '(objectClass=person)'),
      dryRun: v.boolean(),
    }),
    response: DirectoryOutcome,
  }),
  setIdentity: route({
    method: 'POST',
    path: '/directory/identities',
    needs: 'directory.edit',
    summary: 'Say who a database login or a said name is',
    body: v.strictObject({
      sourceId: IdNumber,
      by: v.picklist(['login', 'name']),
      text: v.pipe(v.string(), v.minLength(1), v.maxLength(4000)),
      /** An actor that is known, or one to be made. */
      who: v.union([v.strictObject({ actorId: IdNumber }), v.strictObject({ kind: Kind, name: Words })]),
      forActorId: v.optional(v.nullable(IdNumber), null),
      fromOn: v.optional(v.nullable(GivenDay), null),
      untilOn: v.optional(v.nullable(GivenDay), null),
    }),
    response: Identity,
  }),
  removeIdentity: route({
    method: 'DELETE',
    path: '/directory/identities/:identityId',
    needs: 'directory.edit',
    summary: 'Take a mapping away; saves made until now keep who they were made by',
    params: v.object({ identityId: IntParam }),
    response: v.object({ identityId: v.number() }),
  }),
  listPeople: route({
    method: 'GET',
    path: '/people',
    needs: 'people.manage',
    summary: 'People who may sign in, and the rules for signing in',
    response: v.object({ people: v.array(SpoorPerson), rules: SignInRules }),
  }),
  addPerson: route({
    method: 'POST',
    path: '/people',
    needs: 'people.manage',
    summary: 'Give somebody access',
    body: v.strictObject({
      login: v.pipe(v.string(), v.trim(), v.toLowerCase(), v.minLength(1), v.maxLength(200)),
      password: Password,
      ...personEntries,
    }),
    response: SpoorPerson,
  }),
  changePerson: route({
    method: 'PUT',
    path: '/people/:personId',
    needs: 'people.manage',
    summary: 'Change somebody’s role, reach or password, or end their access',
    params: personParams,
    body: v.strictObject({ ...personEntries, password: v.optional(Password), disabled: v.boolean() }),
    response: SpoorPerson,
  }),
  changeSignInRules: route({
    method: 'PUT',
    path: '/people/rules',
    needs: 'people.manage',
    summary: 'Change the rules for signing in',
    body: SignInRules,
    response: SignInRules,
  }),
  listEvents: route({
    method: 'GET',
    path: '/events',
    needs: 'events.read',
    summary: 'What was done in Spoor itself, newest first',
    query: v.object({ ...eventFilter, before: v.optional(v.pipe(v.string(), v.regex(/^\d{1,18}$/))) }),
    response: v.object({ events: v.array(SpoorEvent), next: v.nullable(v.string()) }),
  }),
  countEvents: route({
    method: 'GET',
    path: '/events/counts',
    needs: 'events.read',
    summary: 'How often each person did each kind of thing in Spoor itself',
    query: v.object(eventFilter),
    response: v.object({ counts: v.array(EventCount) }),
  }),
}
