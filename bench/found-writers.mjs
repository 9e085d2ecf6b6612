import pg from 'pg'

/** Writes rows of the benchmark of found values one by one until its parent says to stop, and says how many a second. */
const [, , url, writers, records] = process.argv
let stop = false
process.on('message', () => (stop = true))
let times = 0
const begun = performance.now()
await Promise.all(
  Array.from({ length: Number(writers) }, async (_, writer) => {
    const client = new pg.Client({ connectionString: url })
    await client.connect()
    for (let n = writer; !stop; n += Number(writers), times++)
      await client.query('update public.record set c3 = $2 where id = $1', [
        1 + ((n * 7919) % Number(records)),
        `w${n}`,
      ])
    await client.end()
  }),
)
process.send((1000 * times) / (performance.now() - begun), () => process.exit(0))
