import { describe, expect, it } from 'vitest'
import { GuardRefusal } from './guard-refusal.ts'
import { withActor } from './with-actor.ts'

function recorder(failOn?: string) {
  const sent: string[] = []
  return {
    sent,
    query: async (text: string, values?: unknown[]) => {
      sent.push(values ? `${text} ${String(values[0])}` : text)
      if (text === failOn) throw new Error(`${failOn} failed`)
    },
  }
}

describe('withActor', () => {
  it('declares the actor inside the transaction and commits', async () => {
    const client = recorder()
    const result = await withActor(client, { actor: 'Oona Marchetti', reason: 'per phone call' }, async (c) => {
      await c.query('update')
      return 7
    })
    expect(result).toBe(7)
    expect(client.sent).toEqual([
      'begin',
      `select set_config('spoor.context', $1, true) {"actor":"Oona Marchetti","reason":"per phone call"}`,
      'update',
      'commit',
    ])
  })

  it('rolls back and passes the failure on', async () => {
    const client = recorder('update')
    await expect(withActor(client, { actor: 'x' }, (c) => c.query('update'))).rejects.toThrow('update failed')
    expect(client.sent.at(-1)).toBe('rollback')
  })

  it('makes an error of its own of what a guard refused, and tells of it after the rollback', async () => {
    const client = recorder()
    const said = { guard: 7, type: 3, action: 'change', key: '["12","a"]', label: 'Line 12', field: 9 }
    const failure = Object.assign(new Error('The price is fixed.'), { code: 'SPR03', detail: JSON.stringify(said) })
    const refused = await withActor(client, { actor: 'x' }, () => Promise.reject(failure)).catch(
      (error: unknown) => error,
    )
    expect(refused).toBeInstanceOf(GuardRefusal)
    expect(refused).toMatchObject({ message: 'The price is fixed.', guard: 7, key: ['12', 'a'], label: 'Line 12' })
    expect(client.sent.slice(-2)).toEqual(['rollback', `select spoor_capture.tell_refused($1, $2) ${failure.detail}`])
    const odd = Object.assign(new Error('no'), { code: 'SPR03', detail: 'not JSON' })
    await expect(withActor(recorder(), { actor: 'x' }, () => Promise.reject(odd))).rejects.toBe(odd)
  })
})
