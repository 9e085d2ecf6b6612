#!/usr/bin/env node
import { ensureBuilt, prepare } from './lib/prepare.mjs'
import { run } from './lib/say.mjs'

/** The application alone, for a PostgreSQL of one's own; configured by environment (README, “Configuration”). */
run(async () => {
  prepare()
  ensureBuilt()
  await import(new URL('../packages/server/dist/main.js', import.meta.url).href)
})
