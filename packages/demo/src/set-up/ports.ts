import { createServer } from 'node:net'
import { DemoRefusal } from './databases.ts'

export async function demandFree(port: number): Promise<void> {
  if ((await probe(port)) === null)
    throw new DemoRefusal(
      `Port ${port} is in use by another program. Set SPOOR_PORT to a free one, for example: SPOOR_PORT=${port + 10} npm run demo`,
    )
}

/** The preferred port when it is free, any other otherwise. */
export async function freePort(preferred: number): Promise<number> {
  return (await probe(preferred)) ?? (await probe(0))!
}

function probe(port: number): Promise<number | null> {
  return new Promise((done) => {
    const server = createServer()
    server.once('error', () => done(null))
    server.listen(port, '127.0.0.1', () => {
      const bound = server.address()
      server.close(() => done(typeof bound === 'object' && bound ? bound.port : null))
    })
  })
}
