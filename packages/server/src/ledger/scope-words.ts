import { sightOf } from '@spoor/contract'
import { parseScope, sentence, sentenceText, type Scope, type ScopeNames } from '@spoor/core'
import type { Database } from '../database/knex.ts'
import type { SignedIn } from '../http/bind.ts'
import { referencesOf } from './references.ts'

/**
 * A scope as a sentence, for what is written down about who asked what. What is written down cannot be erased, so records,
 * runs and stories stay numbers, since a label may name somebody, and values that were asked for are left out.
 */
export async function scopeWords(db: Database, text: string): Promise<string> {
  return (await wordsOfScopes(db, [text]))[0]!
}

/** The same of several scopes, by names that are looked up once. */
export async function wordsOfScopes(db: Database, texts: readonly string[]): Promise<string[]> {
  const scopes = texts.map((text) => parseScope(new URLSearchParams(text)).scope)
  const names = await namesIn(db, ...scopes)
  return scopes.map(({ value, holds, ...rest }) => {
    const words = sentenceText(sentence(rest, names))
    return value || holds ? `${words.slice(0, -1)}, of certain values only.` : words
  })
}

/** What somebody took out, with the reach that narrowed it. */
export async function exportWords(db: Database, text: string, { reach, role }: SignedIn): Promise<string> {
  const words = await scopeWords(db, text)
  return sightOf(role) === 'scope' ? `${words} Within their reach: ${await scopeWords(db, reach ?? '')}` : words
}

/** Names of whom and what some scopes mean. */
export async function namesIn(db: Database, ...scopes: readonly Scope[]): Promise<ScopeNames> {
  const [actors, types, fields] = await Promise.all([
    db('spoor.actor')
      .whereIn(
        'id',
        scopes.flatMap(({ who }) => who?.actors ?? []),
      )
      .select<{ id: number; name: string }[]>('id', 'name'),
    db('spoor.record_type').select<{ id: number; plural: string }[]>('id', 'plural'),
    db('spoor.field')
      .whereIn(
        'id',
        scopes.flatMap(({ what, holds }) => [
          ...(what?.fields ?? []),
          ...(holds?.tests ?? []).map((test) => test.fieldId),
        ]),
      )
      .select<{ id: number; name: string; typeId: number }[]>('id', 'name', 'type_id as typeId'),
  ])
  return {
    actor: (id) => actors.find((one) => one.id === id)?.name,
    type: (id) => types.find((one) => one.id === id)?.plural,
    field: (id) => fields.find((one) => one.id === id),
    record: () => undefined,
    run: () => undefined,
  }
}

/** What the records are called that values point to which a scope asks for, for whoever sees all of them. */
export async function heldNames(db: Database, { holds }: Scope): Promise<Required<Pick<ScopeNames, 'held'>>> {
  const asked = (holds?.tests ?? []).flatMap(({ fieldId, values }) =>
    values.map((value) => ({ fieldId, before: null, after: value })),
  )
  const labels = new Map((await referencesOf(db, asked)).map((one) => [`${one.fieldId} ${one.value}`, one.label]))
  return { held: (fieldId, value) => labels.get(`${fieldId} ${value}`) }
}
