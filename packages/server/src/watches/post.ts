import { lookup as lookUp, type LookupAddress } from 'node:dns'
import { request as plainRequest, type RequestOptions } from 'node:http'
import { request as safeRequest } from 'node:https'
import { BlockList, isIP } from 'node:net'

const usualWaitMs = 15_000
/** Of an answer no more is read; it is not looked at. */
const mostRead = 64 * 1024

/** Networks that are not reached over the internet (RFC 6890). What is IPv4 in the form of IPv6 is looked at as IPv4. */
const own = new BlockList()
for (const [network, bits] of [
  ['0.0.0.0', 8],
  ['10.0.0.0', 8],
  ['100.64.0.0', 10],
  ['127.0.0.0', 8],
  ['169.254.0.0', 16],
  ['172.16.0.0', 12],
  ['192.0.0.0', 24],
  ['192.168.0.0', 16],
  ['198.18.0.0', 15],
  ['224.0.0.0', 4],
  ['240.0.0.0', 4],
] as const)
  own.addSubnet(network, bits, 'ipv4')
for (const [network, bits] of [
  ['::', 128],
  ['::1', 128],
  ['64:ff9b::', 96],
  ['fc00::', 7],
  ['fe80::', 10],
  ['ff00::', 8],
] as const)
  own.addSubnet(network, bits, 'ipv6')

/** Whether an address lies within the own network, or where nothing outside is reached. */
export function isInside(address: string): boolean {
  const family = isIP(address)
  return family === 0 || own.check(address, family === 6 ? 'ipv6' : 'ipv4')
}

class Inside extends Error {
  constructor(host: string) {
    super(`${host} is within the own network, which an administrator did not allow for this receiver`)
  }
}

/**
 * Posts a body. Where the own network is not allowed the addresses that a name leads to are looked at as they are connected to, so
 * that a name cannot lead elsewhere in between.
 * @throws Error unless it is taken: no answer in time, a redirect, or another status than one of success
 */
export async function post(
  url: string,
  {
    headers,
    body,
    inside,
    waitMs = usualWaitMs,
  }: { headers: Readonly<Record<string, string>>; body: string; inside: boolean; waitMs?: number },
): Promise<void> {
  const { protocol, hostname } = new URL(url)
  const literal = hostname.replace(/^\[|\]$/g, '')
  if (!inside && isIP(literal) !== 0 && isInside(literal)) throw new Inside(hostname)
  const lookup: RequestOptions['lookup'] = (host, options, done) => {
    lookUp(host, { ...options, all: true }, (error, found: LookupAddress[]) => {
      if (error) return done(error, '', 4)
      const refused = inside ? undefined : found.find(({ address }) => isInside(address))
      if (refused) return done(new Inside(host), '', 4)
      if (options.all) return done(null, found)
      done(null, found[0]!.address, found[0]!.family)
    })
  }
  await new Promise<void>((done, fail) => {
    const send = protocol === 'https:' ? safeRequest : plainRequest
    const timer = setTimeout(
      () => request.destroy(new Error(`it did not answer within ${waitMs / 1000} seconds`)),
      waitMs,
    )
    const request = send(
      url,
      { method: 'POST', headers: { ...headers, 'content-length': Buffer.byteLength(body) }, lookup, agent: false },
      (response) => {
        const status = response.statusCode ?? 0
        let read = 0
        response.on('data', (part: Buffer) => {
          read += part.length
          if (read > mostRead) response.destroy()
        })
        // However its answer ends, what it began with is what it says.
        response.on('close', () => {
          clearTimeout(timer)
          if (status >= 200 && status < 300) done()
          else fail(new Error(`it answered ${status}`))
        })
        response.on('error', () => undefined)
      },
    )
    request.on('error', (error) => {
      clearTimeout(timer)
      fail(error)
    })
    request.end(body)
  })
}
