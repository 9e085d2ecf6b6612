import { spawn } from 'node:child_process'
import { rmSync } from 'node:fs'
import { createServer } from 'node:net'
import { join } from 'node:path'

const root = join(import.meta.dirname, '..')
const dataDir = join(root, '.spoor-e2e')

/** Starts the demo as anybody would, afresh and with its own port and data directory, and stops it after the tests. */
export default async function setup(): Promise<() => Promise<void>> {
  rmSync(dataDir, { recursive: true, force: true })
  process.env['SPOOR_E2E_DATA_DIR'] = dataDir
  const port = await freePort()
  const demo = spawn(process.execPath, ['scripts/demo.mjs', '--small', '--reset', '--quiet'], {
    cwd: root,
    env: { ...process.env, SPOOR_PORT: String(port), SPOOR_DATA_DIR: dataDir },
    stdio: ['ignore', 'pipe', 'inherit'],
  })
  await new Promise<void>((done, fail) => {
    let said = ''
    demo.stdout.on('data', (chunk: Buffer) => {
      said += chunk.toString()
      if (said.includes('Ctrl-C stops everything')) done()
    })
    demo.once('exit', (code) => fail(new Error(`the demo ended with code ${code} before it was ready:\n${said}`)))
  })
  return async () => {
    const ended = new Promise((done) => demo.once('exit', done))
    demo.kill('SIGINT')
    await ended
  }
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
