import { spawn, type ChildProcess } from 'node:child_process'
import { rmSync } from 'node:fs'
import { createServer } from 'node:net'
import { dataDirOf, root, type DemoName } from './demo.ts'

const options: Readonly<Record<DemoName, string[]>> = {
  /** Larkmere as an administrator finds it who has yet to set tracking up. */
  blank: ['--small', '--blank'],
  /** Larkmere with its history and incidents. */
  east: ['--small'],
  west: ['--small'],
}

/** Starts the demos as anybody would, afresh, each with its own port and data directory; stops them after the tests. */
export default async function setup(): Promise<() => Promise<void>> {
  const wanted = Object.entries(options) as [DemoName, string[]][]
  const demos = await Promise.all(wanted.map(([name, args]) => start(name, args)))
  return async () => {
    await Promise.all(
      demos.map(async (demo) => {
        const ended = new Promise((done) => demo.once('exit', done))
        demo.kill('SIGINT')
        await ended
      }),
    )
    if (untold.length > 0) throw new Error(`Answers that the contract does not promise:\n${untold.join('\n')}`)
  }
}

/** What the servers said of answers that are not as the contract has them. */
const untold: string[] = []

async function start(name: DemoName, args: string[]): Promise<ChildProcess> {
  const dataDir = dataDirOf(name)
  rmSync(dataDir, { recursive: true, force: true })
  const demo = spawn(process.execPath, ['scripts/demo.mjs', '--reset', '--quiet', ...args], {
    cwd: root,
    env: { ...process.env, SPOOR_PORT: String(await freePort()), SPOOR_DATA_DIR: dataDir, SPOOR_CHECK_ANSWERS: '1' },
    stdio: ['ignore', 'pipe', 'inherit'],
  })
  await new Promise<void>((done, fail) => {
    let said = ''
    demo.stdout.on('data', (chunk: Buffer) => {
      const text = chunk.toString()
      if (text.includes('is not what the contract says')) untold.push(text)
      said += text
      if (said.includes('Ctrl-C stops everything')) done()
    })
    demo.once('exit', (code) =>
      fail(new Error(`the ${name} demo ended with code ${code} before it was ready:\n${said}`)),
    )
  })
  return demo
}

function freePort(): Promise<number> {
  return new Promise((done) => {
    const server = createServer()
    server.listen(0, '127.0.0.1', () => {
      const { port } = server.address() as { port: number }
      server.close(() => done(port))
    })
  })
}
