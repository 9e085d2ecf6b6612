/** Somebody on the staff list. */
export interface StaffEntry {
  number: string
  name: string
  login: string
  unit: string
}

/** A person's attributes as the directory has them. */
export function listed({ number, name, login, unit }: StaffEntry): Record<string, string> {
  return { objectClass: 'person', cn: name, uid: login, ou: unit, employeeNumber: number, employeeType: 'person' }
}

/**
 * Who works at Larkmere now: the people of its last staff list who have not left. Since that was sent, one of them has
 * married and somebody has joined.
 */
export function staffOf(csv: string): StaffEntry[] {
  const [heading, ...lines] = csv
    .trim()
    .split('\n')
    .map((line) => line.split(','))
  const at = (line: readonly string[], name: string) => line[heading!.indexOf(name)] ?? ''
  const people = lines
    .filter((line) => at(line, 'kind') === 'person' && at(line, 'left') === '')
    .map((line) => ({ name: at(line, 'name'), login: at(line, 'login'), unit: at(line, 'unit') }))
  const married = people.at(-1)!
  const joined = { name: 'Wilf Amory', login: 'wilf.amory', unit: 'repairs' }
  return [...people.slice(0, -1), { ...married, name: `${married.name}-Hale` }, joined].map((person, n) => ({
    ...person,
    number: `L${String(n + 1).padStart(4, '0')}`,
  }))
}
