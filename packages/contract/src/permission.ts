/** The permission table: the one place that says which role may do what. Routes name a permission, never a role. */
export const roles = ['administrator', 'reviewer', 'approver', 'auditor', 'contributor'] as const
export type Role = (typeof roles)[number]

export const roleNames: Readonly<Record<Role, string>> = {
  administrator: 'Administrator',
  reviewer: 'Reviewer',
  approver: 'Approver',
  auditor: 'Auditor',
  contributor: 'Contributor',
}

/** How much of what a role may see somebody sees: everything, the scope that was set for them, or their own saves. */
export const sights = {
  administrator: 'everything',
  reviewer: 'everything',
  approver: 'everything',
  auditor: 'scope',
  contributor: 'own',
} as const satisfies Record<Role, 'everything' | 'scope' | 'own'>

export function sightOf(role: Role): (typeof sights)[Role] {
  return sights[role]
}

/** Whoever comes first has to let all others in. */
export const firstRole: Role = 'administrator'

/** What most people who are given access are. */
export const usualRole: Role = 'reviewer'

/** What may be allowed, and to whom, within what they see. */
export const permissions = {
  'changes.read': ['administrator', 'reviewer', 'approver', 'auditor', 'contributor'],
  'changes.mark': ['administrator', 'reviewer', 'approver'],
  'noticing.read': ['administrator', 'reviewer', 'approver'],
  'noticing.edit': ['administrator'],
  'review.read': ['administrator', 'reviewer', 'approver'],
  'review.write': ['administrator', 'reviewer', 'approver'],
  'questions.answer': ['administrator', 'reviewer', 'approver', 'contributor'],
  'changes.export': ['administrator', 'reviewer', 'approver', 'auditor'],
  'cases.read': ['administrator', 'reviewer', 'approver'],
  'cases.write': ['administrator', 'reviewer', 'approver'],
  'packs.read': ['administrator', 'reviewer', 'approver', 'auditor'],
  'packs.make': ['administrator', 'reviewer', 'approver', 'auditor'],
  'packs.withdraw': ['administrator'],
  'packs.hand': ['administrator', 'reviewer', 'approver'],
  'watches.read': ['administrator', 'reviewer', 'approver'],
  'watches.edit': ['administrator', 'reviewer'],
  'receivers.edit': ['administrator'],
  'holidays.edit': ['administrator'],
  'tracking.read': ['administrator', 'reviewer', 'approver'],
  'tracking.edit': ['administrator'],
  'tracking.approve': ['administrator', 'approver'],
  'guards.open': ['administrator', 'approver'],
  'values.reveal': ['administrator', 'reviewer', 'approver'],
  'directory.read': ['administrator', 'reviewer', 'approver'],
  'directory.edit': ['administrator'],
  'people.manage': ['administrator'],
  'events.read': ['administrator', 'reviewer', 'approver'],
  'custody.read': ['administrator', 'reviewer', 'approver'],
  'custody.check': ['administrator'],
  'work.read': ['administrator', 'reviewer', 'approver'],
  'erasure.ask': ['administrator'],
  'erasure.decide': ['administrator', 'approver'],
  'baselines.read': ['administrator', 'reviewer', 'approver'],
  'baselines.make': ['administrator', 'reviewer'],
  'baselines.sign': ['administrator', 'reviewer', 'approver'],
  'corrections.read': ['administrator', 'reviewer', 'approver'],
  'corrections.draft': ['administrator', 'reviewer'],
  'corrections.apply': ['administrator', 'approver'],
} as const satisfies Record<string, readonly Role[]>

export type Permission = keyof typeof permissions

/** What a route asks of the person: nothing, a session, or a permission. */
export type Need = 'nobody' | 'session' | Permission

export function allows(role: Role, permission: Permission): boolean {
  return (permissions[permission] as readonly Role[]).includes(role)
}

export function permissionsOf(role: Role): Permission[] {
  return (Object.keys(permissions) as Permission[]).filter((permission) => allows(role, permission))
}
