import { appendFileSync } from 'node:fs'
import { createServer } from 'node:http'
import { createRequire } from 'node:module'
import { join } from 'node:path'
import { root } from './prepare.mjs'

/**
 * Takes mail or posts at a port and writes each down before it answers, so that what was taken is known however it ends:
 * `node taking.mjs mail|posts PORT FILE`. Now and then the answer is kept to itself.
 */

const [kind, port, file] = process.argv.slice(2)
const keep = (message) => appendFileSync(file, `${JSON.stringify(message)}\n`)
/** One in so many is taken without an answer. */
const silentEach = 40
let taken = 0
const isSilent = () => ++taken % silentEach === 0

async function textOf(stream) {
  const parts = []
  for await (const part of stream) parts.push(part)
  return Buffer.concat(parts).toString()
}

if (kind === 'mail') {
  const { SMTPServer } = createRequire(join(root, 'packages/demo/package.json'))('smtp-server')
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS', 'AUTH'],
    onData(stream, session, done) {
      textOf(stream).then((text) => {
        keep(text)
        if (isSilent()) done(Object.assign(new Error('later'), { responseCode: 451 }))
        else done()
      }, done)
    },
  })
  // Whoever is cut off in the middle is no failure of this one.
  server.on('error', () => undefined)
  server.listen(Number(port), '127.0.0.1')
} else
  createServer((request, response) => {
    textOf(request).then(
      (body) => {
        keep({ id: request.headers['webhook-id'], body: JSON.parse(body) })
        // Cut off, so that nobody waits for an answer until they give up.
        if (isSilent()) request.socket.destroy()
        else response.writeHead(204).end()
      },
      () => undefined,
    )
  }).listen(Number(port), '127.0.0.1')
