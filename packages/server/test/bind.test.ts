import express from 'express'
import type { Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import * as v from 'valibot'
import { afterAll, beforeAll, expect, it } from 'vitest'
import type { RouteShape } from '@spoor/contract'
import { Problem } from '../src/errors.ts'
import { bind } from '../src/http/bind.ts'
import { problemHandler } from '../src/http/errors.ts'
import { silentLog } from './support.ts'

const file: RouteShape = { method: 'GET', path: '/file', needs: 'nobody', summary: 'A file' }
const shown: RouteShape = { ...file, path: '/shown', response: v.object({ done: v.boolean() }) }
const wrong: RouteShape = { ...file, path: '/wrong' }
const asked = { file: 0, shown: 0, wrong: 0 }
let server: Server
let base: string

beforeAll(async () => {
  const app = express()
  const isRead = (times: number) => {
    if (times < 3) throw new Problem('being-read', 'Reading what records held.')
  }
  bind(app, file, async ({ response }) => {
    isRead(++asked.file)
    response.type('text/csv').send('a,b')
    return await Promise.resolve()
  })
  bind(app, shown, async () => {
    isRead(++asked.shown)
    return await Promise.resolve({ done: true } as never)
  })
  bind(app, wrong, async () => {
    asked.wrong++
    return await Promise.reject(new Problem('bad-request', 'Nothing was changed.'))
  })
  app.use(problemHandler(silentLog))
  server = app.listen(0, '127.0.0.1')
  await new Promise((resolve) => server.once('listening', resolve))
  base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
})
afterAll(() => new Promise((resolve) => server.close(resolve)))

it('a file comes when what it needs is read; what is shown says at once that it is not', async () => {
  const taken = await fetch(`${base}/file`)
  expect([taken.status, await taken.text(), asked.file]).toEqual([200, 'a,b', 3])
  const told = await fetch(`${base}/shown`)
  expect([told.status, asked.shown]).toEqual([503, 1])
  expect(((await told.json()) as { code: string }).code).toBe('being-read')
})

it('a file that cannot come is refused at once', async () => {
  expect([(await fetch(`${base}/wrong`)).status, asked.wrong]).toEqual([400, 1])
})

it('whoever does not wait for a file any more is not waited for', async () => {
  asked.file = -1000
  const leaving = new AbortController()
  const gone = fetch(`${base}/file`, { signal: leaving.signal }).catch((error: Error) => error.name)
  await expect.poll(() => asked.file).toBeGreaterThan(-999)
  leaving.abort()
  expect(await gone).toBe('AbortError')
  await new Promise((resolve) => setTimeout(resolve, 700))
  const after = asked.file
  await new Promise((resolve) => setTimeout(resolve, 900))
  expect(asked.file).toBe(after)
})
