import { execFile } from 'node:child_process'
import { existsSync, mkdirSync, writeFileSync } from 'node:fs'
import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises'
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { promisify } from 'node:util'

const run = promisify(execFile)
const largestQuestion = 10_000

/** What OpenSSL is told; the office's own name, what its certificate is for, and how it answers. */
const settings = `
[ req ]
distinguished_name = name
prompt = no
[ name ]
CN = The clock office
O = Larkmere
[ certificate ]
basicConstraints = CA:FALSE
keyUsage = critical, digitalSignature
extendedKeyUsage = critical, timeStamping
[ tsa ]
default_tsa = office
[ office ]
serial = ./serial
signer_cert = ./certificate.pem
signer_key = ./key.pem
signer_digest = sha256
default_policy = 1.3.6.1.4.1.99999.1
digests = sha256
ordering = yes
tsa_name = yes
ess_cert_id_alg = sha256
`

/** A stand-in for an authority that stamps digests with the time (RFC 3161), by OpenSSL. */
export class ClockOffice {
  readonly #directory: string
  readonly #server: Server
  /** One after another: its numbers are in a file. */
  #last: Promise<unknown> = Promise.resolve()

  /** @param dataDir where its key and its numbers are kept */
  constructor(dataDir: string) {
    this.#directory = join(dataDir, 'clock-office')
    this.#server = createServer((request, response) => void this.#answer(request, response))
  }

  /** @returns its address */
  async listen(port: number): Promise<string> {
    await this.#open()
    await new Promise<void>((done, fail) => this.#server.once('error', fail).listen(port, '127.0.0.1', done))
    return `http://127.0.0.1:${(this.#server.address() as AddressInfo).port}/`
  }

  async close(): Promise<void> {
    await new Promise<void>((done) => {
      this.#server.close(() => done())
      this.#server.closeAllConnections()
    })
    await this.#last.catch(() => undefined)
  }

  /** Its certificate, for whoever is to know it by another way than by its stamps. */
  get certificate(): string {
    return join(this.#directory, 'certificate.pem')
  }

  /** Makes its key and certificate when it first opens. */
  async #open(): Promise<void> {
    mkdirSync(this.#directory, { recursive: true, mode: 0o700 })
    writeFileSync(join(this.#directory, 'office.cnf'), settings)
    if (existsSync(this.certificate)) return
    writeFileSync(join(this.#directory, 'serial'), '01\n')
    await this.#openssl(
      ...'req -new -x509 -newkey rsa:2048 -nodes -keyout key.pem -out certificate.pem -days 3650 -config office.cnf -extensions certificate'.split(
        ' ',
      ),
    )
  }

  async #openssl(...words: string[]): Promise<void> {
    await run('openssl', words, { cwd: this.#directory })
  }

  async #answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    try {
      if (request.method !== 'POST') {
        response.writeHead(200, { 'content-type': 'text/plain; charset=utf-8' })
        response.end('The clock office stamps digests with the time: POST a question as of RFC 3161.\n')
        return
      }
      const parts: Buffer[] = []
      let size = 0
      for await (const part of request as AsyncIterable<Buffer>) {
        size += part.length
        if (size > largestQuestion) throw new Error('the question is too long')
        parts.push(part)
      }
      const stamped = this.#last.then(() => this.#stamp(Buffer.concat(parts)))
      this.#last = stamped.catch(() => undefined)
      response.writeHead(200, { 'content-type': 'application/timestamp-reply' })
      response.end(await stamped)
    } catch (error) {
      if (!response.headersSent) response.writeHead(400, { 'content-type': 'text/plain; charset=utf-8' })
      response.end(`${(error as Error).message}\n`)
    }
  }

  async #stamp(question: Buffer): Promise<Buffer> {
    const directory = await mkdtemp(join(this.#directory, 'question-'))
    try {
      const [asked, answered] = [join(directory, 'question.tsq'), join(directory, 'answer.tsr')]
      await writeFile(asked, question)
      await this.#openssl('ts', '-reply', '-config', 'office.cnf', '-queryfile', asked, '-out', answered)
      return await readFile(answered)
    } finally {
      await rm(directory, { recursive: true })
    }
  }
}
