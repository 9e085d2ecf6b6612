import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import type { AddressInfo, Server as NetServer } from 'node:net'
import { simpleParser } from 'mailparser'
import { SMTPServer } from 'smtp-server'
import { escaped } from '../desk/page.ts'

/** A message as it came in. */
export interface ReceivedMail {
  number: number
  at: string
  to: string[]
  subject: string
  text: string
  html: string | null
  messageId: string
  headers: Readonly<Record<string, string>>
}

/** How the mailroom behaves: it takes what comes, refuses it for good, or asks to be tried later. */
export const mailroomMoods = ['takes', 'refuses', 'later'] as const
export type MailroomMood = (typeof mailroomMoods)[number]

const mostKept = 1000
const largest = 5_000_000

/** A stand-in for a mail server: it takes every message, keeps it in memory and shows it on a page. */
export class Mailroom {
  readonly #mails: ReceivedMail[] = []
  readonly #smtp: SMTPServer
  readonly #page: Server
  mood: MailroomMood = 'takes'

  constructor() {
    this.#smtp = new SMTPServer({
      authOptional: true,
      disabledCommands: ['STARTTLS', 'AUTH'],
      size: largest,
      onData: (stream, session, done) => {
        void simpleParser(stream).then(
          (mail) => {
            if (this.mood !== 'takes') {
              done(
                Object.assign(new Error(this.mood === 'refuses' ? 'Nobody of that name here' : 'Try again later'), {
                  responseCode: this.mood === 'refuses' ? 550 : 451,
                }),
              )
              return
            }
            this.#mails.push({
              number: (this.#mails.at(-1)?.number ?? 0) + 1,
              at: new Date().toISOString(),
              to: session.envelope.rcptTo.map(({ address }) => address),
              subject: mail.subject ?? '',
              text: mail.text ?? '',
              html: typeof mail.html === 'string' ? mail.html : null,
              messageId: mail.messageId ?? '',
              headers: Object.fromEntries(
                mail.headerLines.map(({ key, line }) => [key, line.slice(line.indexOf(':') + 1).trim()]),
              ),
            })
            if (this.#mails.length > mostKept) this.#mails.shift()
            done()
          },
          (error: Error) => done(error),
        )
      },
    })
    this.#page = createServer((request, response) => this.#answer(request, response))
  }

  /** Every message that is kept, the oldest first. */
  get mails(): readonly ReceivedMail[] {
    return this.#mails
  }

  /** @returns where mail is given, and where it is read */
  async listen(smtpPort: number, pagePort: number): Promise<{ smtp: string; page: string }> {
    await new Promise<void>((done, fail) => {
      this.#smtp.once('error', fail)
      this.#smtp.listen(smtpPort, '127.0.0.1', done)
    })
    await new Promise<void>((done, fail) => this.#page.once('error', fail).listen(pagePort, '127.0.0.1', done))
    const portOf = (server: NetServer) => (server.address() as AddressInfo).port
    return {
      smtp: `smtp://127.0.0.1:${portOf(this.#smtp.server)}`,
      page: `http://127.0.0.1:${portOf(this.#page)}/`,
    }
  }

  async close(): Promise<void> {
    await new Promise<void>((done) => this.#smtp.close(done))
    await new Promise<void>((done) => {
      this.#page.close(() => done())
      this.#page.closeAllConnections()
    })
  }

  #answer(request: IncomingMessage, response: ServerResponse): void {
    const path = (request.url ?? '/').split('?')[0]!
    const mood = mailroomMoods.find((one) => path === `/mood/${one}`)
    if (request.method === 'POST' && mood) {
      this.mood = mood
      response.writeHead(303, { location: '/' }).end()
      return
    }
    if (path === '/mails.json') {
      response.writeHead(200, { 'content-type': 'application/json' }).end(JSON.stringify(this.#mails))
      return
    }
    const mail = this.#mails.find(({ number }) => path === `/mail/${number}`)
    response.writeHead(path === '/' || mail ? 200 : 404, {
      'content-type': 'text/html; charset=utf-8',
      'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'; form-action 'self'",
    })
    response.end(
      mail
        ? page(
            `<p><a href="/">All mail</a></p><h1>${escaped(mail.subject)}</h1><p>to ${escaped(mail.to.join(', '))}, ${escaped(mail.at)}</p>${mail.html === null ? `<pre>${escaped(mail.text)}</pre>` : `<iframe sandbox="allow-popups" srcdoc="${escaped(mail.html)}" title="The message"></iframe>`}`,
          )
        : page(
            `<h1>The mailroom</h1><p>Mail that Spoor sent; it goes nowhere else. It ${escaped({ takes: 'takes what comes', refuses: 'refuses what comes', later: 'asks to be tried later' }[this.mood])}.</p>${mailroomMoods.map((one) => `<form method="post" action="/mood/${one}"><button>${one}</button></form>`).join('')}<ol reversed>${[
              ...this.#mails,
            ]
              .reverse()
              .map(
                (one) =>
                  `<li><a href="/mail/${one.number}">${escaped(one.subject)}</a> to ${escaped(one.to.join(', '))}, ${escaped(one.at)}</li>`,
              )
              .join('')}</ol>`,
          ),
    )
  }
}

const page = (body: string) =>
  `<!doctype html><html lang="en"><meta charset="utf-8"><title>The mailroom</title><style>body{font:15px/1.5 sans-serif;margin:24px;max-width:760px}iframe{width:100%;height:420px;border:1px solid #ccc}form{display:inline-block;margin-right:8px}pre{white-space:pre-wrap}</style><body>${body}</body></html>`
