#!/usr/bin/env node
import { availableParallelism, cpus, totalmem } from 'node:os'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { startCluster } from './lib/cluster.mjs'
import { ensureBuilt, prepare, root } from './lib/prepare.mjs'
import { run, say, Stop } from './lib/say.mjs'

/** `npm run bench`: all benchmarks; `npm run bench -- NAME …`: some. Each prints JSON lines; a whole run is kept in docs. */
run(async () => {
  prepare()
  ensureBuilt()
  const { captureBulk, captureSingle } = await import('../bench/capture.mjs')
  const { capturePgbench } = await import('../bench/pgbench.mjs')
  const { check, collector, lag } = await import('../bench/collector.mjs')
  const big = await import('../bench/ledger.mjs')
  const { findRecord } = await import('../bench/find.mjs')
  const { correction, rebuild } = await import('../bench/correction.mjs')
  const { closeFigures, figure, held, timeInValue } = await import('../bench/figures.mjs')
  const { found } = await import('../bench/found.mjs')
  const { exportCsv } = await import('../bench/export.mjs')
  const { pack } = await import('../bench/pack.mjs')
  const { guards } = await import('../bench/guard.mjs')
  const { watches } = await import('../bench/watches.mjs')
  const { reconcile } = await import('../bench/reconcile.mjs')
  const { amounts, firstView } = await import('../bench/screen.mjs')
  const { standing } = await import('../bench/standing.mjs')
  const { recordStory, stateRecord, stateType } = await import('../bench/state.mjs')
  const all = {
    'capture-bulk': captureBulk,
    'capture-single': captureSingle,
    'capture-pgbench': capturePgbench,
    collector,
    check,
    lag,
    'first-page': big.firstPage,
    'deep-page': big.deepPage,
    substring: big.substring,
    rise: big.rise,
    sorted: big.sorted,
    ribbon: big.ribbon,
    days: big.daysReading,
    count: big.count,
    today: big.todayPage,
    pivot: big.pivot,
    'time-in-value': timeInValue,
    held,
    figure,
    found,
    'state-record': stateRecord,
    'state-type': stateType,
    'record-story': recordStory,
    standing,
    'find-record': findRecord,
    'first-view': firstView,
    amounts,
    correction,
    rebuild,
    reconcile,
    'export-csv': exportCsv,
    pack,
    watches,
    guard: guards,
    'try-on-past': big.tryPast,
  }
  const wanted = process.argv.slice(2)
  const unknown = wanted.find((name) => !all[name])
  if (unknown) throw new Stop(`There is no benchmark “${unknown}”. There are: ${Object.keys(all).join(', ')}.`)
  const cluster = await startCluster({
    dataDir: join(root, '.spoor-bench'),
    settings: ['shared_buffers=1GB', 'max_wal_size=4GB'],
  })
  const lines = []
  try {
    for (const [name, benchmark] of Object.entries(all)) {
      if (wanted.length > 0 && !wanted.includes(name)) continue
      for (const result of await benchmark(cluster)) {
        const rounded = {
          ...result,
          value: Number(result.value.toPrecision(4)),
          ratio: result.ratio === null ? null : Number(result.ratio.toPrecision(3)),
        }
        say(JSON.stringify(rounded))
        lines.push(rounded)
      }
    }
  } finally {
    await Promise.all([big.closeLedger(), closeFigures()])
    await cluster.stop()
  }
  if (wanted.length === 0) writeFileSync(join(root, 'docs/benchmarks.md'), report(lines))
})

function report(lines) {
  const rows = lines.map(
    (l) =>
      `| ${l.name} | ${l.value} ${l.unit} | ${l.against} | ${l.ratio ?? ''} | ${l.target ?? ''} | ${l.holds === null ? '' : l.holds ? 'yes' : 'no'} |`,
  )
  const machine = `${availableParallelism()} cores (${cpus()[0]?.model ?? 'unknown'}), ${Math.round(totalmem() / 2 ** 30)} GiB, Node ${process.versions.node}, PostgreSQL 15 or newer from Debian`
  return `# Benchmarks

Written by \`npm run bench\` on ${new Date().toISOString().slice(0, 10)}: ${machine}. Ratios are of one run; both sides were measured in it.

| name | value | against | ratio | target | holds |
| --- | --- | --- | --- | --- | --- |
${rows.join('\n')}
`
}
