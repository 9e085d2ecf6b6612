import { isZone, rules, type NoticingSettings } from '@spoor/core'
import type { Knex } from 'knex'
import { Problem } from '../errors.ts'

/** How Spoor notices: the clock that the organisation works by, and what people chose for each rule. */
export interface Settings {
  zone: string
  rules: NoticingSettings
}

interface Stored {
  zone?: string
  rules?: NoticingSettings
}

export function settingsFrom(stored: Stored): Settings {
  return { zone: stored.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone, rules: stored.rules ?? {} }
}

export async function readSettings(db: Knex): Promise<Settings> {
  const { settings } = await db('spoor.noticing').first<{ settings: Stored }>('settings')
  return settingsFrom(settings)
}

/** @throws Problem for a rule, a parameter or a zone that does not exist, and for a figure out of its limits. */
export function demandSettings({ zone, rules: chosen }: Settings): Settings {
  if (!isZone(zone)) throw new Problem('bad-request', `The time zone “${zone}” is not known. Nothing was changed.`)
  for (const [name, setting] of Object.entries(chosen)) {
    const rule = rules.find((one) => one.name === name)
    if (!rule) throw new Problem('bad-request', `There is no reason called “${name}”. Nothing was changed.`)
    for (const [parameter, figure] of Object.entries(setting.parameters)) {
      const limits = rule.parameters[parameter]
      if (!limits) throw new Problem('bad-request', `“${rule.title}” has no “${parameter}”. Nothing was changed.`)
      if (!(figure >= limits.least && figure <= limits.most))
        throw new Problem(
          'bad-request',
          `“${rule.title}”: ${limits.words} has to lie from ${limits.least} to ${limits.most}. Nothing was changed.`,
        )
    }
  }
  return { zone, rules: chosen }
}
