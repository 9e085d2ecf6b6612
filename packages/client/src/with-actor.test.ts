import { describe, expect, it } from 'vitest'
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
})
