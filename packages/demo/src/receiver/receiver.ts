import { createHmac, timingSafeEqual } from 'node:crypto'
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { escaped } from '../desk/page.ts'

/** A message as it came in. */
export interface ReceivedMessage {
  id: string
  at: string
  /** Whether a signature on it holds, and it is not older than it may be. */
  signed: boolean
  body: string
}

/** How the receiver behaves: it takes what comes, fails, sends elsewhere, answers nothing, or answers without end. */
export const receiverMoods = ['takes', 'fails', 'elsewhere', 'hangs', 'endless'] as const
export type ReceiverMood = (typeof receiverMoods)[number]

const mostKept = 1000
const largest = 1_000_000
/** A message whose time lies further away is not believed, whoever signed it: it may be sent again by somebody else. */
const toleranceMs = 5 * 60_000

/** A stand-in for a program that watches tell: it checks what signs a message, keeps it in memory and shows it on a page. */
export class Receiver {
  readonly #messages: ReceivedMessage[] = []
  readonly #server: Server
  mood: ReceiverMood = 'takes'
  /** What has to sign its messages: `whsec_` and base64. */
  secret = ''

  constructor() {
    this.#server = createServer((request, response) => void this.#answer(request, response))
  }

  /** Every message that is kept, the oldest first. */
  get messages(): readonly ReceivedMessage[] {
    return this.#messages
  }

  /** @returns where messages are given, and where they are read */
  async listen(port: number): Promise<{ hook: string; page: string }> {
    await new Promise<void>((done, fail) => this.#server.once('error', fail).listen(port, '127.0.0.1', done))
    const base = `http://127.0.0.1:${(this.#server.address() as AddressInfo).port}/`
    return { hook: `${base}hook`, page: base }
  }

  async close(): Promise<void> {
    await new Promise<void>((done) => {
      this.#server.close(() => done())
      this.#server.closeAllConnections()
    })
  }

  #isSigned(headers: IncomingMessage['headers'], body: string): boolean {
    const [id, seconds] = [String(headers['webhook-id'] ?? ''), Number(headers['webhook-timestamp'])]
    if (!Number.isInteger(seconds) || Math.abs(Date.now() - seconds * 1000) > toleranceMs) return false
    const key = Buffer.from(this.secret.replace(/^whsec_/, ''), 'base64')
    const wanted = Buffer.from(`v1,${createHmac('sha256', key).update(`${id}.${seconds}.${body}`).digest('base64')}`)
    return String(headers['webhook-signature'] ?? '')
      .split(' ')
      .map((one) => Buffer.from(one))
      .some((one) => one.length === wanted.length && timingSafeEqual(one, wanted))
  }

  async #answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const path = (request.url ?? '/').split('?')[0]!
    const mood = receiverMoods.find((one) => path === `/mood/${one}`)
    if (request.method === 'POST' && mood) {
      this.mood = mood
      response.writeHead(303, { location: '/' }).end()
      return
    }
    if (request.method === 'POST' && path === '/hook') {
      await this.#take(request, response)
      return
    }
    if (path === '/messages.json') {
      response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(this.#messages))
      return
    }
    response.writeHead(path === '/' ? 200 : 404, {
      'content-type': 'text/html; charset=utf-8',
      'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'",
    })
    response.end(
      `<!doctype html><html lang="en"><meta charset="utf-8"><title>The receiver</title><style>body{font:15px/1.5 sans-serif;margin:24px;max-width:760px}form{display:inline-block;margin-right:8px}pre{white-space:pre-wrap;overflow-wrap:anywhere}</style><body><h1>The receiver</h1><p>What watches told it. It ${this.mood}.</p>${receiverMoods.map((one) => `<form method="post" action="/mood/${one}"><button>${one}</button></form>`).join('')}<ol reversed>${[
        ...this.#messages,
      ]
        .reverse()
        .map(
          (one) =>
            `<li>${escaped(one.at)}, ${one.signed ? 'signed' : 'not signed'}<pre>${escaped(one.body)}</pre></li>`,
        )
        .join('')}</ol></body></html>`,
    )
  }

  async #take(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const parts: Buffer[] = []
    let size = 0
    for await (const part of request as AsyncIterable<Buffer>) {
      size += part.length
      if (size > largest) {
        response.writeHead(413).end()
        return
      }
      parts.push(part)
    }
    switch (this.mood) {
      case 'hangs':
        return
      case 'fails':
        response.writeHead(503).end('out of order')
        return
      case 'elsewhere':
        response.writeHead(307, { location: 'http://127.0.0.1:9/' }).end()
        return
      case 'endless': {
        response.writeHead(500)
        const more = () => {
          while (!response.destroyed && response.write('x'.repeat(10_000)));
          if (!response.destroyed) response.once('drain', more)
        }
        more()
        return
      }
      case 'takes': {
        const body = Buffer.concat(parts).toString()
        const signed = this.#isSigned(request.headers, body)
        const id = String(request.headers['webhook-id'] ?? '')
        // What comes again under one identity is one message.
        if (!this.#messages.some((one) => one.id === id))
          this.#messages.push({ id, at: new Date().toISOString(), signed, body })
        if (this.#messages.length > mostKept) this.#messages.shift()
        response.writeHead(signed ? 204 : 401).end()
      }
    }
  }
}
