import { fork } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { DemoRefusal } from './set-up/databases.ts'

export interface RunningApplication {
  address: string
  ended: Promise<void>
  stop(): Promise<void>
}

/** Starts Spoor itself, as a process of its own, configured by environment like anybody's. */
export async function startApplication(env: Record<string, string>): Promise<RunningApplication> {
  const main = fileURLToPath(new URL('../../server/dist/main.js', import.meta.url))
  // Its own process group: Ctrl-C in a terminal reaches the demo, which stops things in order.
  const child = fork(main, {
    env: { ...process.env, ...env },
    detached: true,
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
  })
  let stopping = false
  const ended = new Promise<void>((done) => child.once('exit', () => done()))
  const address = await new Promise<string>((done, fail) => {
    child.once('message', (message: { ready: string }) => done(message.ready))
    child.once('exit', (code) =>
      fail(
        new DemoRefusal(`The application ended before it was ready (exit code ${code}); its own words stand above.`),
      ),
    )
  })
  return {
    address,
    ended: ended.then(() => (stopping ? new Promise<void>(() => undefined) : undefined)),
    stop: async () => {
      stopping = true
      if (child.exitCode === null) child.kill('SIGTERM')
      await ended
    },
  }
}
