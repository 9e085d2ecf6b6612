import { createConnection, createServer, type AddressInfo } from 'node:net'
import type { World } from './support.ts'

/** Stands before the database, and once it is told to, lets the next commit through and breaks off before its answer. */
async function losingAnswersToCommits(port: string) {
  let losing = false
  let lost = 0
  const server = createServer((client) => {
    const database = createConnection({ host: '127.0.0.1', port: Number(port) })
    client.on('data', (bytes) => {
      database.write(bytes)
      if (!losing || !/^Q.{4}COMMIT/is.test(bytes.toString('latin1'))) return
      losing = false
      lost++
      // Time for the commit to be done, and none for its answer.
      database.removeAllListeners('data')
      database.once('data', () => client.destroy())
    })
    database.on('data', (bytes) => client.write(bytes))
    for (const socket of [client, database]) socket.on('error', () => undefined)
    client.on('close', () => database.destroy())
    database.on('close', () => client.destroy())
  })
  await new Promise<void>((done) => void server.listen(0, '127.0.0.1', done))
  return {
    port: (server.address() as AddressInfo).port,
    lose: () => (losing = true),
    lost: () => lost,
    close: () => new Promise((done) => server.close(done)),
  }
}

/** Has a world's source reached through {@link losingAnswersToCommits} while something is done. */
export async function throughLossyWire(
  world: World,
  work: (lossy: Awaited<ReturnType<typeof losingAnswersToCommits>>) => Promise<void>,
): Promise<void> {
  const lossy = await losingAnswersToCommits(new URL(world.superuserUrl).port)
  const url = new URL(world.businessAs('spoor_test_source'))
  url.port = String(lossy.port)
  const address = () => world.db('spoor.source').where({ id: world.sourceId })
  const direct = await address().first<{ url_sealed: Buffer }>('url_sealed')
  await world.sources.close()
  await address().update({ url_sealed: world.vault.seal(url.href) })
  try {
    await work(lossy)
  } finally {
    await world.sources.close()
    await address().update(direct)
    await lossy.close()
  }
}
