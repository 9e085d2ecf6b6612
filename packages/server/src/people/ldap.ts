import { Client } from 'ldapts'
import { actorKinds, type ActorKind } from '@spoor/core'
import { Problem } from '../errors.ts'
import type { ListedActor } from './directory.ts'

export interface LdapSearch {
  url: string
  /** Empty for an anonymous bind. */
  bindName: string
  password: string
  base: string
  filter: string
}

const timeoutMs = 10_000
const pageSize = 500

/** Attributes by which directories name the same thing, the best first. */
const attributes = {
  name: ['displayName', 'cn'],
  login: ['uid', 'sAMAccountName'],
  unit: ['ou', 'department'],
  id: ['employeeNumber', 'entryUUID'],
  kind: ['employeeType'],
} as const

type Entry = Record<string, unknown>

/**
 * Reads people from an LDAP directory (RFC 4511).
 * @returns who was read, and entries that could not be used.
 * @throws Problem when the directory cannot be reached or refuses.
 */
export async function readLdap(search: LdapSearch): Promise<{ listed: ListedActor[]; refused: string[] }> {
  const client = new Client({ url: search.url, timeout: timeoutMs, connectTimeout: timeoutMs })
  try {
    if (search.bindName !== '') await client.bind(search.bindName, search.password)
    const { searchEntries } = await client.search(search.base, {
      scope: 'sub',
      filter: search.filter,
      attributes: Object.values(attributes).flat(),
      paged: { pageSize },
    })
    const refused: string[] = []
    const listed = (searchEntries as Entry[]).flatMap((entry): ListedActor[] => {
      const name = first(entry, attributes.name)
      if (name === null) {
        refused.push(`${String(entry['dn'])} has no name`)
        return []
      }
      const kind = first(entry, attributes.kind)
      return [
        {
          id: first(entry, attributes.id),
          name: name.slice(0, 300),
          kind: actorKinds.find((known): known is ActorKind => known === kind) ?? 'person',
          login: first(entry, attributes.login),
          unit: first(entry, attributes.unit),
          joinedOn: undefined,
          leftOn: undefined,
        },
      ]
    })
    return { listed, refused }
  } catch (error) {
    if (error instanceof Problem) throw error
    throw new Problem(
      'directory-unreachable',
      `The directory at ${new URL(search.url).host} answered: ${(error as Error).message || 'nothing'}. Spoor’s own directory is as it was.`,
    )
  } finally {
    await client.unbind().catch(() => undefined)
  }
}

function first(entry: Entry, names: readonly string[]): string | null {
  for (const name of names) {
    const value = [entry[name]].flat()[0]
    if (typeof value === 'string' && value.trim() !== '') return value.trim()
  }
  return null
}
