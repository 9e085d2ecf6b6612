import type { SignInRules } from '@spoor/contract'
import type { Database } from '../database/knex.ts'
import { Problem } from '../errors.ts'

/** What holds until an administrator says otherwise. */
export const usualRules: SignInRules = { idleMinutes: 480, mostHours: 12, leastPasswordLength: 12, triesBeforeWait: 8 }
const freshMs = 5000

/** The rules for signing in, read at most every few seconds. */
export class SignInRuleBook {
  readonly #db: Database
  #known: { rules: SignInRules; readMs: number } | undefined
  constructor(db: Database) {
    this.#db = db
  }

  async read(): Promise<SignInRules> {
    if (this.#known && performance.now() - this.#known.readMs < freshMs) return this.#known.rules
    const row = await this.#db('spoor.setting')
      .where({ name: 'sign-in' })
      .first<{ value: SignInRules } | undefined>('value')
    this.#known = { rules: { ...usualRules, ...row?.value }, readMs: performance.now() }
    return this.#known.rules
  }

  async change(rules: SignInRules): Promise<SignInRules> {
    await this.#db('spoor.setting')
      .insert({ name: 'sign-in', value: JSON.stringify(rules) })
      .onConflict('name')
      .merge()
    this.#known = undefined
    return await this.read()
  }

  /** @throws Problem when a password is shorter than the rules allow. */
  async demandPassword(password: string): Promise<void> {
    const { leastPasswordLength } = await this.read()
    if ([...password].length < leastPasswordLength)
      throw new Problem(
        'rule-broken',
        `The password needs at least ${leastPasswordLength} characters. Nothing was changed.`,
      )
  }
}
