import { createServer, type Server, type Socket } from 'node:net'
import { listed, type StaffEntry } from './staff-entry.ts'
import { children, element, integer, readElement, universal } from './ber.ts'

/** Operations of LDAP (RFC 4511) by their tag. */
const operation = {
  bindRequest: 0x60,
  bindResponse: 0x61,
  unbind: 0x42,
  searchRequest: 0x63,
  entry: 0x64,
  searchDone: 0x65,
} as const
const success = 0
const invalidCredentials = 49
const unwillingToPerform = 53

export const staffListBase = 'ou=people,dc=larkmere,dc=example'
export const staffListBindName = 'cn=spoor,dc=larkmere,dc=example'

/**
 * Larkmere's staff list as an LDAP directory: a stand-in that lets somebody bind and answers every search with
 * everybody. It knows no filters and changes nothing.
 */
export class StaffList {
  readonly #server: Server
  readonly #people: readonly StaffEntry[]
  readonly #password: string
  constructor(people: readonly StaffEntry[], password: string) {
    this.#people = people
    this.#password = password
    this.#server = createServer((socket) => this.#serve(socket))
  }

  async listen(port: number): Promise<string> {
    await new Promise<void>((done, fail) => this.#server.once('error', fail).listen(port, '127.0.0.1', done))
    return `ldap://127.0.0.1:${port}`
  }

  async close(): Promise<void> {
    await new Promise<void>((done) => this.#server.close(() => done()))
  }

  #serve(socket: Socket): void {
    let waiting = Buffer.alloc(0)
    socket.on('error', () => socket.destroy())
    socket.on('data', (chunk) => {
      waiting = Buffer.concat([waiting, chunk])
      for (let next = readElement(waiting); next; next = readElement(waiting)) {
        waiting = waiting.subarray(next.size)
        const [id, request] = children(next.element.content)
        if (!id || !request || request.tag === operation.unbind) {
          socket.end()
          return
        }
        for (const answer of this.#answer(request.tag, request.content))
          socket.write(element(universal.sequence, element(universal.integer, id.content), answer))
      }
    })
  }

  #answer(tag: number, content: Buffer): Buffer[] {
    if (tag === operation.bindRequest) {
      const [, name, secret] = children(content)
      const right = name?.content.toString() === staffListBindName && secret?.content.toString() === this.#password
      return [result(operation.bindResponse, right ? success : invalidCredentials)]
    }
    if (tag !== operation.searchRequest) return [result(operation.searchDone, unwillingToPerform)]
    return [...this.#people.map(entry), result(operation.searchDone, success)]
  }
}

function result(tag: number, code: number): Buffer {
  return element(
    tag,
    integer(code, universal.enumerated),
    element(universal.octetString),
    element(universal.octetString),
  )
}

function entry(person: StaffEntry): Buffer {
  const attributes = Object.entries(listed(person)).map(([name, value]) =>
    element(
      universal.sequence,
      element(universal.octetString, name),
      element(universal.set, element(universal.octetString, value)),
    ),
  )
  return element(
    operation.entry,
    element(universal.octetString, `uid=${person.login},${staffListBase}`),
    element(universal.sequence, ...attributes),
  )
}
