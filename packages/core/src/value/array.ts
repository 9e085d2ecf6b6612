import type { CapturedValue } from './type.ts'

/** Members of a one-dimensional PostgreSQL array literal; null when the text is not one. NULL members are null. */
export function arrayMembers(literal: string): CapturedValue[] | null {
  if (literal === '{}') return []
  if (!literal.startsWith('{') || !literal.endsWith('}')) return null
  const members: CapturedValue[] = []
  let at = 1
  const end = literal.length - 1
  while (at <= end) {
    let member = ''
    let quoted = false
    if (literal[at] === '"') {
      quoted = true
      at++
      while (at < end && literal[at] !== '"') {
        if (literal[at] === '\\') at++
        member += literal[at++]
      }
      at++
    } else {
      while (at < end && literal[at] !== ',') {
        if (literal[at] === '{') return null
        if (literal[at] === '\\') at++
        member += literal[at++]
      }
    }
    members.push(!quoted && member.toUpperCase() === 'NULL' ? null : member)
    if (at >= end) break
    if (literal[at] !== ',') return null
    at++
  }
  return members
}

/** The array literal PostgreSQL would read back as these members. */
export function arrayLiteral(members: readonly CapturedValue[]): string {
  const written = members.map((member) => {
    if (member === null) return 'NULL'
    if (member === '' || /[\s{}",\\]/.test(member) || member.toUpperCase() === 'NULL')
      return `"${member.replace(/(["\\])/g, '\\$1')}"`
    return member
  })
  return `{${written.join(',')}}`
}
