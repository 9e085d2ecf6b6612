import type { NewPerson } from '@spoor/server'

/** Who may sign in to the demo. The passwords are printed at start and worth nothing anywhere else. */
export const demoPeople: readonly NewPerson[] = [
  { login: 'maud', name: 'Maud Ollerton', role: 'administrator', password: 'larkmere-maud' },
  { login: 'idris', name: 'Idris Penhallow', role: 'reviewer', password: 'larkmere-idris' },
  { login: 'hester', name: 'Hester Cardew', role: 'approver', password: 'larkmere-hester' },
  {
    login: 'oona',
    name: 'Oona Marchetti',
    role: 'contributor',
    password: 'larkmere-oona',
    actorName: 'Oona Marchetti',
  },
]
