#!/usr/bin/env node
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { join, resolve } from 'node:path'
import { startCluster } from './lib/cluster.mjs'
import { ensureBuilt, prepare, root } from './lib/prepare.mjs'
import { programOf } from './lib/process.mjs'
import { run, say, Stop } from './lib/say.mjs'

/** Sets everything up, starts a private PostgreSQL, Larkmere and Spoor, and stops them again on Ctrl-C. */

const dataDir = resolve(process.env.SPOOR_DATA_DIR || join(root, '.spoor'))

/** One start per data directory; a lock left by a process that is gone is taken over. */
function lock() {
  mkdirSync(dataDir, { recursive: true, mode: 0o755 })
  const file = join(dataDir, 'demo.lock')
  if (existsSync(file)) {
    const pid = Number(readFileSync(file, 'utf8'))
    if (pid !== process.pid && /node/i.test(programOf(pid) ?? ''))
      throw new Stop(
        `The demo already runs with this data directory (process ${pid}). Stop it with Ctrl-C there, or set SPOOR_PORT and SPOOR_DATA_DIR for a second one.`,
      )
  }
  writeFileSync(file, String(process.pid))
  return () => rmSync(file, { force: true })
}

const flags = ['small', 'blank', 'reset', 'quiet']
const gentlePerMinute = 6
const mostPerMinute = 30_000

function readOptions(args) {
  const known = new Set(flags.map((flag) => `--${flag}`))
  const rate = args.find((arg) => /^--rate=\d+$/.test(arg))
  const unknown = args.find((arg) => !known.has(arg) && arg !== rate)
  if (unknown)
    throw new Stop(
      `“${unknown}” is not an option of the demo. There are --small (a tenth of its size), --blank (nothing tracked, no history), --reset (start afresh), --quiet (no live activity) and --rate=N (live saves a minute).`,
    )
  const has = (flag) => args.includes(`--${flag}`)
  const perMinute = rate ? Math.min(mostPerMinute, Number(rate.slice('--rate='.length))) : gentlePerMinute
  return { small: has('small'), blank: has('blank'), reset: has('reset'), rate: has('quiet') ? 0 : perMinute }
}

run(async () => {
  const options = readOptions(process.argv.slice(2))

  const unlock = lock()
  let stopping = false
  const undo = []
  const stopAll = async (code) => {
    if (stopping) return
    stopping = true
    for (const step of undo.reverse()) await step().catch((error) => console.error(error))
    unlock()
    process.exit(code)
  }
  for (const signal of ['SIGINT', 'SIGTERM'])
    process.on(signal, () => {
      if (!stopping) say('\nStopping.')
      void stopAll(0)
    })

  try {
    prepare()
    ensureBuilt()
    let clusterUrl = process.env.SPOOR_DATABASE_URL
    if (!clusterUrl) {
      const cluster = await startCluster({
        dataDir,
        settings: ['shared_buffers=256MB', 'max_wal_size=2GB', 'max_connections=120'],
      })
      undo.push(cluster.stop)
      clusterUrl = cluster.url('postgres')
    }
    if (stopping) return
    const { startDemo } = await import(new URL('../packages/demo/dist/main.js', import.meta.url).href)
    const demo = await startDemo({
      clusterUrl,
      dataDir,
      sharedCluster: Boolean(process.env.SPOOR_DATABASE_URL),
      port: Number(process.env.SPOOR_PORT || 4310),
      ...options,
      say,
    })
    undo.push(demo.stop)
    demo.ended.then(() => stopAll(1))
  } catch (error) {
    if (!stopping) console.error(error instanceof Stop || error.name === 'DemoRefusal' ? error.message : error)
    await stopAll(1)
  }
})
